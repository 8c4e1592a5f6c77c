namespace Skevin.StandIn.Model;

/// <summary>A machine of a cluster.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Role">control-plane or worker.</param>
/// <param name="Cores">Processors.</param>
/// <param name="Gib">Memory.</param>
public sealed record SimNode(string Name, string Role, double Cores, double Gib);

/// <summary>What a cluster is made of.</summary>
/// <param name="Nodes">Its machines.</param>
/// <param name="Version">Version of its API.</param>
/// <param name="V4">Whether pods get an IPv4 address.</param>
/// <param name="V6">Whether pods get an IPv6 address.</param>
/// <param name="Demo">Whether it is one of the demo's: long settled, with a network, the workloads and their traffic. Otherwise it begins empty.</param>
public sealed record Blueprint(IReadOnlyList<SimNode> Nodes, string Version, bool V4, bool V6, bool Demo)
{
    /// <summary>One of the demo's clusters.</summary>
    public static Blueprint OfDemo(string name, int nodes) => new(
        [.. Enumerable.Range(1, nodes).Select(i => new SimNode($"{name[(name.IndexOf('-') + 1)..]}-{i}", i == 1 ? "control-plane" : "worker", Scenario.NodeSize.Cores, Scenario.NodeSize.Gib))],
        Scenario.Version, true, true, true);
}
