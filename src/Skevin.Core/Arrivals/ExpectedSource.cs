using Skevin.Core.Clusters;
using Skevin.Core.Collection;

namespace Skevin.Core.Arrivals;

/// <summary>Kinds of source metrics come from.</summary>
public enum SourceKind
{
    /// <summary>Usage of a node, its pods and containers.</summary>
    NodeUsage,

    /// <summary>State of the cluster, read from its API.</summary>
    ClusterState,

    /// <summary>An application's endpoint.</summary>
    Endpoint,
}

/// <summary>Something that should send, worked out from plan and inventory.</summary>
/// <param name="Signal">For now always <c>metrics</c>.</param>
/// <param name="Name">The name agent and server both know it by.</param>
/// <param name="Namespace">Namespace of the target, null for nodes and the cluster.</param>
/// <param name="SentBy">The collector, in words.</param>
/// <param name="Agent">The pod that collects it, null while there is none.</param>
/// <param name="IntervalSeconds">How often it should come.</param>
/// <param name="Since">From when it is expected: both ends ready. Null while one is not.</param>
public sealed record ExpectedSource(
    string Signal, string Name, SourceKind Kind, string? Namespace, string SentBy, PodState? Agent, PodState? Target,
    int IntervalSeconds, DateTimeOffset? Since);

/// <summary>Works out what should arrive.</summary>
public static class ExpectedSources
{
    /// <summary>Name of the source that is a node's usage.</summary>
    public static string NodeUsage(string node) => "node/" + node;

    /// <summary>Name of the one source of cluster state.</summary>
    public const string ClusterState = "cluster state";

    /// <summary>Name of an application's endpoint.</summary>
    public static string Endpoint(string ns, string pod, int port) => $"{ns}/{pod}:{port}";

    /// <summary>All sources a plan in force leads to.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="inventory">The cluster now.</param>
    public static IReadOnlyList<ExpectedSource> Of(CollectionPlan plan, Inventory inventory)
    {
        if (plan.Metrics is not { } metrics)
            return [];
        var agents = inventory.Pods.Where(pod => pod.Namespace == Manifests.Namespace).ToArray();
        var byNode = agents.Where(pod => pod.Workload == Manifests.Agent)
            .GroupBy(pod => pod.Node).ToDictionary(group => group.Key, group => group.OrderBy(pod => pod.Created).Last());
        var list = new List<ExpectedSource>();
        if (metrics.ResourceUsage)
            list.AddRange(inventory.Nodes.Select(node => One(
                NodeUsage(node.Name), SourceKind.NodeUsage, null, "agent on " + node.Name,
                byNode.GetValueOrDefault(node.Name), null, metrics.EverySeconds)));
        if (metrics.ClusterState)
            list.Add(One(ClusterState, SourceKind.ClusterState, null, "state collector",
                agents.LastOrDefault(pod => pod.Workload == Manifests.StateCollector), null, metrics.EverySeconds));
        if (metrics.Endpoints)
            list.AddRange(
                from pod in inventory.Pods
                where IsCollected(metrics, pod)
                from container in pod.Containers
                from port in container.Ports
                where port.Name == metrics.EndpointPort
                select One(Endpoint(pod.Namespace, pod.Name, port.Number), SourceKind.Endpoint, pod.Namespace,
                    "agent on " + pod.Node, byNode.GetValueOrDefault(pod.Node), pod, metrics.EverySeconds));
        return list;
    }

    /// <summary>Whether the endpoints of a pod are read under a plan.</summary>
    public static bool IsCollected(MetricsPlan metrics, PodState pod) =>
        metrics.Endpoints && pod.Phase == "Running" && pod.Node.Length > 0 && pod.Addresses.Count > 0
        && (metrics.Namespaces is not { Count: > 0 } chosen || chosen.Contains(pod.Namespace));

    private static ExpectedSource One(
        string name, SourceKind kind, string? ns, string sentBy, PodState? agent, PodState? target, int interval)
    {
        var ready = ReadySince(agent);
        if (target is not null)
            ready = ReadySince(target) is { } own && ready is { } other ? (own > other ? own : other) : null;
        return new("metrics", name, kind, ns, sentBy, agent, target, interval, ready);
    }

    private static DateTimeOffset? ReadySince(PodState? pod) =>
        pod is { Ready: true } ? pod.Conditions.FirstOrDefault(condition => condition.Type == "Ready")?.Since ?? pod.Created : null;
}
