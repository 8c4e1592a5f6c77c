using System.Net;

namespace Skevin.Core.Collection;

/// <summary>What is collected from one cluster; a signal that is null is not collected.</summary>
/// <param name="Metrics">How metrics are collected.</param>
/// <param name="Logs">How logs are collected.</param>
/// <param name="Traces">How traces are collected.</param>
/// <param name="Flows">How flows are collected.</param>
/// <param name="Destinations">Where the agents send it too, beside this server.</param>
public sealed record CollectionPlan(MetricsPlan? Metrics, LogsPlan? Logs = null, TracesPlan? Traces = null, FlowsPlan? Flows = null, IReadOnlyList<Destination>? Destinations = null)
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
            if (metrics.RuntimePath is { } path && (path.Length is 0 or > 200 || path.StartsWith('/') || path.Split('/').Any(part => part is "" or "." or "..") || path.Any(c => !char.IsAsciiLetterOrDigit(c) && c is not ('/' or '-' or '_' or '.'))))
                yield return "The path of the runtime's page has no '/' at its beginning, for example metrics/containers: letters, digits, '/', '-', '_' and '.'.";
            if (metrics.Endpoints && metrics.EndpointPort.Length == 0)
                yield return "Application endpoints are found by the name of a container port, for example metrics.";
        }
        foreach (var rule in Logs?.LeftOut ?? [])
            if (rule.Kind.Replace("{}", "").Trim().Length == 0)
                yield return "A rule for lines names a kind with some words of its own; to leave out all lines of a workload choose its namespaces, or switch lines off.";
        if (Traces is { Share: not (> 0 and <= 1) })
            yield return "The share of traces that is kept lies above 0 and goes up to 1, which keeps all of them.";
        foreach (var problem in new[] { Metrics?.Only?.Problem, Logs?.Only?.Problem, Traces?.Only?.Problem }.OfType<string>())
            yield return problem;
        if (Traces?.Tail?.Problem is { } tail)
            yield return tail;
        foreach (var problem in (Destinations ?? []).Select(destination => destination.Problem).OfType<string>())
            yield return problem;
        foreach (var same in (Destinations ?? []).GroupBy(destination => destination.Name).Where(group => group.Count() > 1))
            yield return $"Two destinations are called '{same.Key}'.";
        foreach (var outside in Flows?.Outside ?? [])
            if (!IPNetwork.TryParse(outside.Network, out _) || string.IsNullOrWhiteSpace(outside.Name))
                yield return $"'{outside.Network}' is not a network such as 203.0.113.0/24, or it has no name.";
    }
}

/// <summary>Which pods of the chosen namespaces something is collected from. Each list that is given has to fit, by one of its entries.</summary>
/// <param name="Workloads">As <c>namespace/name</c>.</param>
/// <param name="Labels">Labels of the pods, as <c>name=value</c>.</param>
/// <param name="Nodes">Names of nodes.</param>
public sealed record Selection(IReadOnlyList<string>? Workloads = null, IReadOnlyList<string>? Labels = null, IReadOnlyList<string>? Nodes = null)
{
    /// <summary>Whether a pod is chosen.</summary>
    public bool Fits(Clusters.PodState pod) =>
        (Workloads is not { Count: > 0 } || Workloads.Contains($"{pod.Namespace}/{pod.Workload}"))
        && (Nodes is not { Count: > 0 } || Nodes.Contains(pod.Node))
        && (Labels is not { Count: > 0 } || Labels.Any(label => label.Split('=', 2) is [var name, var value] && pod.Labels?.GetValueOrDefault(name) == value));

    /// <summary>In words; empty where all pods are chosen.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public string Words => string.Join(" and ", new[] { (Workloads, "of "), (Labels, "with "), (Nodes, "on ") }.Where(part => part.Item1 is { Count: > 0 }).Select(part => part.Item2 + string.Join(" or ", part.Item1!)));

    /// <summary>What is wrong with it, or null.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public string? Problem => (Workloads ?? []).FirstOrDefault(workload => workload.Split('/') is not [{ Length: > 0 }, { Length: > 0 }]) is { } odd ? $"'{odd}' is no workload such as auction/ledger."
        : (Labels ?? []).FirstOrDefault(label => label.Split('=', 2) is not [{ Length: > 0 }, _]) is { } strange ? $"'{strange}' is no label such as tier=front."
        : (Nodes ?? []).Any(string.IsNullOrWhiteSpace) ? "A node has a name." : null;
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
/// <param name="Only">Which of their pods; null for all.</param>
/// <param name="RuntimePath">Path of the container runtime's text page at each node's own agent, read through the cluster API; null where it is not read.</param>
/// <param name="Rules">What is left out, loses a label or is renamed; the first rule about a metric holds.</param>
public sealed record MetricsPlan(
    bool ResourceUsage = true, bool ClusterState = true, bool Endpoints = true, int EverySeconds = 15,
    string EndpointPort = "metrics", string EndpointPath = "/metrics", IReadOnlyList<string>? Namespaces = null, bool HostMetrics = false, CloseLook? Closely = null, IReadOnlyList<MetricRule>? Rules = null, string? RuntimePath = null, Selection? Only = null)
{
    /// <summary>How often metrics are read at a moment, in seconds: the agents go back by themselves when the close look is over.</summary>
    public int EverySecondsAt(DateTimeOffset now) => Closely is { } closely && now < closely.Until ? closely.EverySeconds : EverySeconds;

    /// <summary>Whether it collects anything.</summary>
    public bool Any => ResourceUsage || ClusterState || Endpoints || HostMetrics || RuntimePath is not null;
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
/// <param name="Only">Which of their pods; null for all.</param>
/// <param name="Joined">Whether lines that go on from the one before, such as those of a stack trace, become one with it.</param>
public sealed record LogsPlan(bool Containers = true, bool Events = true, IReadOnlyList<string>? Namespaces = null, IReadOnlyList<LineRule>? LeftOut = null, bool Syslog = false, bool Joined = false, Selection? Only = null)
{
    /// <summary>Whether it collects anything.</summary>
    public bool Any => Containers || Events || Syslog;
}

/// <summary>How traces are collected: the agents take spans that applications send.</summary>
/// <param name="Share">Share of traces kept, over 0 up to 1; decided by the trace's id, its weight goes with it.</param>
/// <param name="Namespaces">Namespaces whose spans are expected; empty for all.</param>
/// <param name="Only">Which of their pods; null for all.</param>
/// <param name="Tail">Which traces are kept whatever the share, decided when they are whole; null decides by the id alone, at once.</param>
public sealed record TracesPlan(double Share = 1, IReadOnlyList<string>? Namespaces = null, TailPlan? Tail = null, Selection? Only = null);

/// <summary>Traces are gathered and judged when they are whole: one collector holds them so long.</summary>
/// <param name="WaitSeconds">How long after its first span a trace is held, 1 to 120 s.</param>
/// <param name="Failed">Whether every trace with a failed span is kept.</param>
/// <param name="SlowerSeconds">From which duration on every trace is kept, in seconds; null for none.</param>
public sealed record TailPlan(double WaitSeconds = 10, bool Failed = true, double? SlowerSeconds = null)
{
    /// <summary>What is wrong with it, or null.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public string? Problem => WaitSeconds is not (>= 1 and <= 120) ? "Traces are held 1 to 120 s before they are judged."
        : SlowerSeconds is not (null or > 0) ? "Slow traces are those above some duration greater than 0."
        : null;
}

/// <summary>A further place the agents send to: anything that takes OTLP over HTTP.</summary>
/// <param name="Name">What it is called; small letters, digits and '-'.</param>
/// <param name="Url">Where it is, without <c>/v1/…</c>.</param>
/// <param name="Signals">Which signals go there; flows do not, they are no OTLP. Null for all three.</param>
public sealed partial record Destination(string Name, string Url, IReadOnlyList<string>? Signals = null)
{
    private static readonly string[] Known = ["metrics", "logs", "traces"];

    /// <summary>Whether a signal goes there.</summary>
    public bool Takes(string signal) => Known.Contains(signal) && Signals?.Contains(signal) != false;

    /// <summary>Secret of the cluster that holds what proves the right to send there: the text of the header <c>Authorization</c>.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public string Secret => "skevin-destination-" + Name;

    /// <summary>What is wrong with it, or null.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public string? Problem => Name is null || !WellNamed().IsMatch(Name) ? $"'{Name}' cannot be the name of a destination: small letters, digits and '-', up to 40."
        : !Uri.TryCreate(Url, UriKind.Absolute, out var url) || url.Scheme is not ("http" or "https") || url.UserInfo.Length > 0 || url.Query.Length > 0 ? $"'{Url}' is not an address such as https://store.example:4318."
        : Signals?.FirstOrDefault(signal => !Known.Contains(signal)) is { } other ? $"'{other}' cannot be sent to {Name}; metrics, logs and traces can."
        : Signals is { Count: 0 } ? $"Nothing is sent to {Name}. Choose a signal, or remove it."
        : null;

    [System.Text.RegularExpressions.GeneratedRegex("^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$")]
    private static partial System.Text.RegularExpressions.Regex WellNamed();
}

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
/// <param name="Machine">What is collected on a machine outside of clusters, whose name <paramref name="Cluster"/> stands beside; null for the agents of a cluster.</param>
/// <param name="KeyHash">SHA-256 of the key by which the agent knows its server, hexadecimal; null where the server asks it nothing but its status.</param>
public sealed record AgentConfiguration(string Cluster, int Revision, string Server, CollectionPlan Plan, long BufferBytes, string? KeyHash = null, MachinePlan? Machine = null);
