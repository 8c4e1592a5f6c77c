using Skevin.Core.Collection;

namespace Skevin.Core.Arrivals;

/// <summary>What it takes to read a source.</summary>
public static class SourceRights
{
    /// <summary>Rights in the cluster and on the nodes that reading this kind of source takes, in words.</summary>
    public static IReadOnlyList<string> Of(SourceKind kind)
    {
        var plan = new CollectionPlan(
            new MetricsPlan(ResourceUsage: kind == SourceKind.NodeUsage, ClusterState: kind == SourceKind.ClusterState, Endpoints: kind == SourceKind.Endpoint, HostMetrics: kind == SourceKind.HostMetrics, RuntimePath: kind == SourceKind.RuntimePage ? "metrics" : null),
            kind is SourceKind.ContainerLog or SourceKind.ClusterEvents ? new LogsPlan(Containers: kind == SourceKind.ContainerLog, Events: kind == SourceKind.ClusterEvents) : null,
            kind == SourceKind.WorkloadSpans ? new TracesPlan() : null,
            kind == SourceKind.FlowExporter ? new FlowsPlan() : null);
        return
        [
            .. Permissions.For(plan).Select(right => $"{string.Join(", ", right.Verbs)} {string.Join(", ", right.Resources)}: {right.Need}"),
            .. Permissions.OnNodes(plan).Select(access => $"{access.What}: {access.Need}"),
        ];
    }
}
