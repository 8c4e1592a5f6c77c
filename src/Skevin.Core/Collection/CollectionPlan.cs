using System.Net;

namespace Skevin.Core.Collection;

/// <summary>What is collected from one cluster; a signal that is null is not collected.</summary>
public sealed record CollectionPlan(MetricsPlan? Metrics, LogsPlan? Logs = null, TracesPlan? Traces = null, FlowsPlan? Flows = null)
{
    /// <summary>The plan a new cluster is offered.</summary>
    public static CollectionPlan Suggested { get; } = new(new MetricsPlan(HostMetrics: true), new LogsPlan(), new TracesPlan(), new FlowsPlan());

    /// <summary>Names of the signals it collects.</summary>
    public IReadOnlyList<string> Signals =>
    [
        .. new[] { ("metrics", Metrics?.Any == true), ("logs", Logs?.Any == true), ("traces", Traces is not null), ("flows", Flows is not null) }.Where(pair => pair.Item2).Select(pair => pair.Item1),
    ];

    /// <summary>What is wrong with it, in sentences; empty when it can be rolled out.</summary>
    public IEnumerable<string> Problems()
    {
        if (Signals.Count == 0)
            yield return "The plan collects nothing. Switch on at least one kind of source.";
        if (Metrics is { } metrics)
        {
            if (metrics.EverySeconds is < 1 or > 300)
                yield return "Metrics are read every 1 s to 5 min.";
            if (metrics.Closely is { EverySeconds: < 1 or > 300 })
                yield return "A close look reads metrics every 1 s to 5 min.";
            if (metrics.Endpoints && !metrics.EndpointPath.StartsWith('/'))
                yield return "The path of application endpoints begins with '/', for example /metrics.";
            foreach (var problem in (metrics.Rules ?? []).Select(rule => rule.Problem).OfType<string>())
                yield return problem;
            if (metrics.Endpoints && metrics.EndpointPort.Length == 0)
                yield return "Application endpoints are found by the name of a container port, for example metrics.";
        }
        foreach (var rule in Logs?.LeftOut ?? [])
            if (rule.Kind.Replace("{}", "").Trim().Length == 0)
                yield return "A rule for lines names a kind with some words of its own; to leave out all lines of a workload choose its namespaces, or switch lines off.";
        if (Traces is { Share: not (> 0 and <= 1) })
            yield return "The share of traces that is kept lies above 0 and goes up to 1, which keeps all of them.";
        foreach (var outside in Flows?.Outside ?? [])
            if (!IPNetwork.TryParse(outside.Network, out _) || string.IsNullOrWhiteSpace(outside.Name))
                yield return $"'{outside.Network}' is not a network such as 203.0.113.0/24, or it has no name.";
    }
}

/// <summary>How metrics are collected.</summary>
/// <param name="ResourceUsage">Node, pod and container usage from each node's stats summary.</param>
/// <param name="ClusterState">Pods, workloads and nodes as the cluster API sees them.</param>
/// <param name="Endpoints">OpenMetrics endpoints of applications.</param>
/// <param name="EverySeconds">Collection interval, 1 to 300 s.</param>
/// <param name="EndpointPort">Name of the container port that marks an endpoint.</param>
/// <param name="EndpointPath">Path read there.</param>
/// <param name="Namespaces">Namespaces whose endpoints are read; empty for all.</param>
/// <param name="HostMetrics">Processor by mode, memory, disks, file systems and interfaces of each node, from its kernel.</param>
/// <param name="Closely">More often for a while, or null.</param>
/// <param name="Rules">What is left out, loses a label or is renamed; the first rule about a metric holds.</param>
public sealed record MetricsPlan(
    bool ResourceUsage = true, bool ClusterState = true, bool Endpoints = true, int EverySeconds = 15,
    string EndpointPort = "metrics", string EndpointPath = "/metrics", IReadOnlyList<string>? Namespaces = null, bool HostMetrics = false, CloseLook? Closely = null, IReadOnlyList<MetricRule>? Rules = null)
{
    /// <summary>How often metrics are read at a moment, in seconds: the agents go back by themselves when the close look is over.</summary>
    public int EverySecondsAt(DateTimeOffset now) => Closely is { } closely && now < closely.Until ? closely.EverySeconds : EverySeconds;

    /// <summary>Whether it collects anything.</summary>
    public bool Any => ResourceUsage || ClusterState || Endpoints || HostMetrics;
}

/// <summary>Metrics are read more often for a while.</summary>
/// <param name="EverySeconds">How often, 1 to 300 s.</param>
/// <param name="Until">Until when.</param>
public sealed record CloseLook(int EverySeconds, DateTimeOffset Until);

/// <summary>How logs are collected.</summary>
/// <param name="Containers">Lines the containers write.</param>
/// <param name="Events">Events of the cluster.</param>
/// <param name="Namespaces">Namespaces whose containers are read; empty for all.</param>
/// <param name="LeftOut">Lines that are not sent.</param>
/// <param name="Syslog">Syslog that machines near by send to the nodes.</param>
/// <param name="Joined">Whether lines that go on from the one before, such as those of a stack trace, become one with it.</param>
public sealed record LogsPlan(bool Containers = true, bool Events = true, IReadOnlyList<string>? Namespaces = null, IReadOnlyList<LineRule>? LeftOut = null, bool Syslog = false, bool Joined = false)
{
    /// <summary>Whether it collects anything.</summary>
    public bool Any => Containers || Events || Syslog;
}

/// <summary>How traces are collected: the agents take spans that applications send.</summary>
/// <param name="Share">Share of traces kept, over 0 up to 1; decided by the trace's id, its weight goes with it.</param>
/// <param name="Namespaces">Namespaces whose spans are expected; empty for all.</param>
public sealed record TracesPlan(double Share = 1, IReadOnlyList<string>? Namespaces = null);

/// <summary>A name for a network outside the cluster.</summary>
public sealed record OutsideName(string Network, string Name);

/// <summary>How flows are collected: the agents take what the nodes' flow exporters send.</summary>
/// <param name="Outside">Names for networks outside.</param>
public sealed record FlowsPlan(IReadOnlyList<OutsideName>? Outside = null);

/// <summary>What the agent reads from its configuration object.</summary>
/// <param name="Cluster">Name put on all data.</param>
/// <param name="Revision">Revision of the plan.</param>
/// <param name="Server">Base address of the server, for example <c>http://skevin:5180</c>.</param>
/// <param name="Plan">What to collect.</param>
/// <param name="BufferBytes">Most the agent keeps on its disk.</param>
/// <param name="KeyHash">SHA-256 of the key by which the agent knows its server, hexadecimal; null where the server asks it nothing but its status.</param>
public sealed record AgentConfiguration(string Cluster, int Revision, string Server, CollectionPlan Plan, long BufferBytes, string? KeyHash = null);
