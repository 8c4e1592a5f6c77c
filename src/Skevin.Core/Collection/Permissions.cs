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
        if (metrics.ResourceUsage || metrics.RuntimePath is not null)
            rights.Add(new([""], ["nodes/proxy"], ["get"], string.Join(" ", new[] { metrics.ResourceUsage ? "Usage, from each node's stats summary." : null, metrics.RuntimePath is not null ? "The runtime's text page of each node." : null }.OfType<string>())));
        if (metrics.ResourceUsage || metrics.RuntimePath is not null || metrics.Endpoints || logs.Containers || plan.Traces is not null)
            rights.Add(new([""], ["pods"], ["get", "list"], "Names, owners and addresses of pods."));
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
            list.Add(new("/var/log/pods (read)", "Log files belong to root: it runs as root, no capability."));
            list.Add(new(Manifests.BufferOnNode, "Buffer and read marks, kept across roll-outs."));
        }
        if (plan.Logs?.Syslog == true)
            list.Add(new($"port {Manifests.SyslogNodePort} on each node", "Syslog of machines near by, UDP and TCP; not encrypted, from anybody who reaches it."));
        if (plan.Metrics?.HostMetrics == true)
            list.Add(new("/ (read)", "Counters of the kernel, sizes of file systems."));
        if (plan.Traces is not null)
            list.Add(new($"port {Manifests.SpanPort} on each node", "Spans of applications, OTLP over HTTP."));
        if (plan.Flows is not null)
            list.Add(new($"port {Manifests.FlowPort} on each node", "Records of the flow exporter, IPFIX over TCP."));
        foreach (var destination in plan.Destinations ?? [])
            list.Add(new(destination.Url, $"Also sent to {destination.Name}: {string.Join(", ", destination.Signals ?? ["metrics", "logs", "traces"])}."));
        return list;
    }
}

/// <summary>Something of a node the agent may reach, and what for.</summary>
public sealed record NodeAccess(string What, string Need);
