using k8s.Autorest;
using Skevin.ClusterApi;
using Skevin.Core.Collection;
using Skevin.Server.Clusters;
using Skevin.Server.Setup;

namespace Skevin.Server.Collection;

/// <summary>What opens a further destination.</summary>
/// <param name="Authorization">Text of the header <c>Authorization</c>, for example <c>Bearer …</c>.</param>
public sealed record DestinationHeader(string Authorization);

/// <summary>Puts the header that opens a further destination into the cluster, as a secret of the agents' namespace. Skevin itself does not keep it.</summary>
public sealed class KeepDestinationHeader
{
    private const int Longest = 4096;

    /// <summary>Does it.</summary>
    public async Task<Problem?> Run(WatchedCluster cluster, string name, DestinationHeader header, CancellationToken stop)
    {
        var destination = new Destination(name, "https://any.example");
        if (destination.Problem is { } problem)
            return new Problem(400, "No such destination.", problem);
        if (string.IsNullOrWhiteSpace(header.Authorization) || header.Authorization.Length > Longest || header.Authorization.Any(c => c is < ' ' or > '~'))
            return new Problem(400, "The header cannot be used.", $"It is one line of plain characters, up to {Longest}, for example: Bearer and the token.");
        try
        {
            // The namespace is there after the first roll-out; before it, it is made.
            await ManifestApply.Apply(cluster.Client, Manifests.OfNamespace, stop);
            await ManifestApply.Apply(cluster.Client, Manifests.DestinationSecret(destination, header.Authorization.Trim()), stop);
            return null;
        }
        catch (Exception trouble) when (trouble is HttpOperationException or HttpRequestException)
        {
            return new Problem(502, "The cluster did not take the secret.", InventoryWatch.Words(trouble));
        }
    }
}
