namespace Skevin.Core.Collection;

/// <summary>A right the agent needs, and what for.</summary>
public sealed record NeededRight(
    IReadOnlyList<string> ApiGroups, IReadOnlyList<string> Resources, IReadOnlyList<string> Verbs, string Need);

/// <summary>The smallest rights for what a plan collects.</summary>
public static class Permissions
{
    /// <summary>Rights at cluster scope, each with its need.</summary>
    public static IReadOnlyList<NeededRight> For(CollectionPlan plan)
    {
        var rights = new List<NeededRight>();
        if (plan.Metrics is not { } metrics)
            return rights;
        if (metrics.ResourceUsage)
            rights.Add(new([""], ["nodes/proxy"], ["get"], "Usage of nodes, pods and containers is read from each node's stats summary."));
        if (metrics.ResourceUsage || metrics.Endpoints)
            rights.Add(new([""], ["pods"], ["get", "list"], "Names, owners, addresses and ports of the pods on each node."));
        if (metrics.ClusterState)
        {
            rights.Add(new([""], ["nodes", "pods"], ["get", "list"], "State of nodes and pods."));
            rights.Add(new(["apps"], ["deployments", "statefulsets", "daemonsets"], ["get", "list"], "Wanted and available pods of workloads."));
        }
        return rights;
    }
}
