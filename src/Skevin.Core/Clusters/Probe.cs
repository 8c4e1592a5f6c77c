using System.Net;
using System.Net.Sockets;

namespace Skevin.Core.Clusters;

/// <summary>What is probed.</summary>
public enum ProbeKind
{
    /// <summary>A service: by name and by address, in both families.</summary>
    Service,

    /// <summary>A pod, at each of its addresses.</summary>
    Pod,

    /// <summary>The agents of the other nodes: the way between nodes.</summary>
    Nodes,
}

/// <summary>One connection that is tried from one node.</summary>
/// <param name="From">Node it is tried from.</param>
/// <param name="To">What it leads to.</param>
/// <param name="By">"name" or "address".</param>
/// <param name="Host">Name or address.</param>
/// <param name="Port">Port; 0 looks the name up only.</param>
/// <param name="Family">IPv4 or IPv6.</param>
/// <param name="SameNode">Whether both ends are on one node, which proves nothing about the way between nodes.</param>
public sealed record ProbeAttempt(string From, string To, string By, string Host, int Port, string Family, bool SameNode = false);

/// <summary>What an agent says of an attempt.</summary>
/// <param name="Addresses">Addresses the name has in that family.</param>
/// <param name="LookUpMs">How long the name took, in milliseconds; null for an address.</param>
/// <param name="ConnectMs">How long the connection took, in milliseconds; null where there was none.</param>
/// <param name="Error">Why it failed, or null.</param>
public sealed record ProbeAnswer(IReadOnlyList<string> Addresses, double? LookUpMs, double? ConnectMs, string? Error);

/// <summary>Works out what is to be tried.</summary>
public static class Probes
{
    /// <summary>The families, as they are written.</summary>
    public const string V4 = "IPv4", V6 = "IPv6";

    /// <summary>Family of an address.</summary>
    public static string FamilyOf(string address) => IPAddress.TryParse(address, out var parsed) && parsed.AddressFamily == AddressFamily.InterNetworkV6 ? V6 : V4;

    /// <summary>Attempts at a service, from some nodes. A port that speaks UDP alone is only looked up.</summary>
    public static IEnumerable<ProbeAttempt> ToService(ServiceState service, IEnumerable<string> nodes)
    {
        var to = $"{service.Namespace}/{service.Name}";
        var port = service.Ports.FirstOrDefault(one => one.Protocol != "UDP")?.Number ?? 0;
        foreach (var node in nodes)
        {
            foreach (var family in new[] { V4, V6 })
                yield return new(node, to, "name", $"{service.Name}.{service.Namespace}.svc.cluster.local", port, family);
            if (port > 0)
                foreach (var address in service.Addresses)
                    yield return new(node, to, "address", address, port, FamilyOf(address));
        }
    }

    /// <summary>Attempts at a pod, from some nodes, on the first port it names.</summary>
    public static IEnumerable<ProbeAttempt> ToPod(PodState pod, IEnumerable<string> nodes) =>
        pod.Containers.SelectMany(container => container.Ports).FirstOrDefault() is not { } port ? []
        : from node in nodes from address in pod.Addresses select new ProbeAttempt(node, $"{pod.Namespace}/{pod.Name}", "address", address, port.Number, FamilyOf(address), node == pod.Node);

    /// <summary>Attempts from every agent to those of all other nodes.</summary>
    /// <param name="agents">The agents, one a node.</param>
    /// <param name="port">Port they answer on.</param>
    public static IEnumerable<ProbeAttempt> BetweenNodes(IReadOnlyList<PodState> agents, int port) =>
        from one in agents from other in agents where one.Node != other.Node from address in other.Addresses select new ProbeAttempt(one.Node, "agent on " + other.Node, "address", address, port, FamilyOf(address));
}
