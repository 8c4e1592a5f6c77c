using k8s;
using Microsoft.EntityFrameworkCore;
using Skevin.ClusterApi;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Clusters;

/// <summary>A name and the kubeconfig of a cluster.</summary>
public sealed record ConnectRequest(string? Name, string Kubeconfig);

/// <summary>A step of connecting and how it went.</summary>
/// <param name="Title">What was tried.</param>
/// <param name="Ok">Whether it worked.</param>
/// <param name="Detail">What was found, or why it did not.</param>
public sealed record ConnectStep(string Title, bool Ok, string Detail);

/// <summary>A connected cluster and the steps to it.</summary>
public sealed record Connected(string Name, IReadOnlyList<ConnectStep> Steps);

/// <summary>Connects a cluster: reads the kubeconfig, reaches the API, tests the rights Skevin needs, then keeps it.</summary>
public sealed class ConnectCluster(IDbContextFactory<SkevinContext> contexts, ClusterWatchers watchers, TimeProvider clock)
{
    private static readonly (string Verb, string Group, string Resource, string What)[] Needed =
    [
        ("list", "", "nodes", "read nodes"),
        ("list", "", "pods", "read pods in all namespaces"),
        ("list", "apps", "deployments", "read workloads"),
    ];

    /// <summary>Does it.</summary>
    public async Task<Outcome<Connected>> Run(ConnectRequest request, string by, CancellationToken stop)
    {
        var steps = new List<ConnectStep>();
        using var client = ClusterConnection.FromKubeconfig(request.Kubeconfig ?? "", out var error);
        if (client is null)
            return new Problem(400, "The kubeconfig cannot be used.", error!);
        steps.Add(new("Kubeconfig read", true, client.BaseUri.ToString()));
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
        patience.CancelAfter(TimeSpan.FromSeconds(10));
        try
        {
            var version = await client.Version.GetCodeAsync(patience.Token);
            steps.Add(new("Cluster API answers", true, version.GitVersion));
            var missing = new List<string>();
            foreach (var (verb, group, resource, what) in Needed)
                if (!(await ManifestApply.May(client, verb, group, resource, null, patience.Token)).Allowed)
                    missing.Add(what);
            if (missing.Count > 0)
                return new Problem(403, "The account in the kubeconfig lacks rights.", $"It may not {string.Join(", nor ", missing)}. Give its account these rights, or use another kubeconfig.", steps);
            steps.Add(new("Rights tested", true, "nodes, pods and workloads can be read"));
        }
        catch (Exception trouble) when (trouble is not OperationCanceledException || !stop.IsCancellationRequested)
        {
            return new Problem(502, "The cluster does not answer as it should.", $"{client.BaseUri}: {InventoryWatch.Words(trouble)} Check that this server can reach the address and that the credentials are valid.", steps);
        }
        var name = string.IsNullOrWhiteSpace(request.Name) ? ContextName(request.Kubeconfig!) : request.Name.Trim();
        if (name.Length is 0 or > 63 || !name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-'))
            return new Problem(400, "The name cannot be used.", "A cluster's name has up to 63 lowercase letters, digits and dashes, for example larkfield-south.");
        await using var context = await contexts.CreateDbContextAsync(stop);
        if (await context.Clusters.AnyAsync(row => row.Name == name, stop))
            return new Problem(409, "Already there.", $"A cluster named {name} is connected; nothing was changed.");
        var cluster = new ClusterRow
        {
            Name = name, ProtectedKubeconfig = watchers.Protect(request.Kubeconfig!), Address = client.BaseUri.ToString(), ConnectedAt = clock.GetUtcNow(), ConnectedBy = by,
        };
        context.Clusters.Add(cluster);
        await context.SaveChangesAsync(stop);
        watchers.Begin(cluster);
        steps.Add(new("Inventory begins", true, "nodes, namespaces, workloads and pods are listed and watched"));
        return new Connected(name, steps);
    }

    private static string ContextName(string kubeconfig) =>
        KubernetesYaml.Deserialize<k8s.KubeConfigModels.K8SConfiguration>(kubeconfig).CurrentContext ?? "";
}
