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
        var metrics = plan.Metrics ?? new MetricsPlan(false, false, false);
        var logs = plan.Logs ?? new LogsPlan(false, false);
        if (metrics.ResourceUsage)
            rights.Add(new([""], ["nodes/proxy"], ["get"], "Usage of nodes, pods and containers is read from each node's stats summary."));
        if (metrics.ResourceUsage || metrics.Endpoints || logs.Containers || plan.Traces is not null)
            rights.Add(new([""], ["pods"], ["get", "list"], "Names, owners, addresses and ports of the pods on each node."));
        if (metrics.ClusterState)
        {
            rights.Add(new([""], ["nodes", "pods"], ["get", "list"], "State of nodes and pods."));
            rights.Add(new(["apps"], ["deployments", "statefulsets", "daemonsets"], ["get", "list"], "Wanted and available pods of workloads."));
        }
        if (logs.Events)
            rights.Add(new([""], ["events"], ["get", "list"], "Events of the cluster."));
        return rights;
    }

    /// <summary>What the agents may reach on the nodes themselves, each with its need.</summary>
    public static IReadOnlyList<NodeAccess> OnNodes(CollectionPlan plan)
    {
        var list = new List<NodeAccess>();
        if (plan.Logs?.Containers == true)
        {
            list.Add(new("/var/log/pods, read only", "The containers' log files, which belong to root: the agent runs as root without any capability."));
            list.Add(new(Manifests.BufferOnNode, "How far each log was read, kept across roll-outs so that no line is lost or sent twice."));
        }
        if (plan.Metrics?.HostMetrics == true)
            list.Add(new("/, read only", "Counters of the kernel in /proc and /sys, and sizes of the file systems."));
        if (plan.Traces is not null)
            list.Add(new($"port {Manifests.SpanPort} on each node", "Applications send their spans to the agent on their node (OTLP over HTTP)."));
        if (plan.Flows is not null)
            list.Add(new($"port {Manifests.FlowPort} on each node", "The node's flow exporter sends its records to the agent (IPFIX over TCP)."));
        return list;
    }
}

/// <summary>Something of a node the agent may reach, and what for.</summary>
public sealed record NodeAccess(string What, string Need);
