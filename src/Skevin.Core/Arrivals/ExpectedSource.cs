using Skevin.Core.Clusters;
using Skevin.Core.Collection;

namespace Skevin.Core.Arrivals;

/// <summary>Kinds of source.</summary>
public enum SourceKind
{
    /// <summary>Usage of a node, its pods and containers.</summary>
    NodeUsage,

    /// <summary>State of the cluster, read from its API.</summary>
    ClusterState,

    /// <summary>An application's endpoint.</summary>
    Endpoint,

    /// <summary>Counters of a node's kernel.</summary>
    HostMetrics,

    /// <summary>The text page of a node's container runtime.</summary>
    RuntimePage,

    /// <summary>What a container writes.</summary>
    ContainerLog,

    /// <summary>Events of the cluster.</summary>
    ClusterEvents,

    /// <summary>Spans of a workload.</summary>
    WorkloadSpans,

    /// <summary>Flows a node's exporter sends.</summary>
    FlowExporter,

    /// <summary>Syslog of machines that send to a node.</summary>
    Syslog,

    /// <summary>Counters of the kernel of a machine outside of clusters.</summary>
    MachineHost,

    /// <summary>Log files of a machine outside of clusters.</summary>
    MachineFiles,

    /// <summary>An endpoint such a machine reads.</summary>
    MachineEndpoint,

    /// <summary>What an agent measures of itself. It comes with whatever else is read, so it is not expected by itself.</summary>
    Agent,
}

/// <summary>Something that should send, worked out from plan and inventory.</summary>
/// <param name="Signal">metrics, logs, traces or flows.</param>
/// <param name="Name">The name agent and server both know it by.</param>
/// <param name="Namespace">Namespace of the target, null for nodes and the cluster.</param>
/// <param name="SentBy">The collector, in words.</param>
/// <param name="Agent">The pod that collects it, null while there is none.</param>
/// <param name="IntervalSeconds">How often it should come.</param>
/// <param name="Node">The node it is on; null where it is on none, or the node is not known.</param>
/// <param name="Since">From when it is expected: both ends ready. Null while one is not.</param>
public sealed record ExpectedSource(
    string Signal, string Name, SourceKind Kind, string? Namespace, string SentBy, PodState? Agent, PodState? Target,
    int IntervalSeconds, DateTimeOffset? Since, NodeState? Node = null)
{
    /// <summary>The machine outside of clusters it is of; null where it is of the cluster.</summary>
    public MachineState? Machine { get; init; }
}

/// <summary>A machine outside of clusters, as its server knows it.</summary>
/// <param name="Name">Its name.</param>
/// <param name="InstalledAt">When its agent asked for its plan first; null while it never has.</param>
/// <param name="AskedAt">When it did so last.</param>
/// <param name="TokenValid">Whether its token may push.</param>
public sealed record MachineState(string Name, DateTimeOffset? InstalledAt, DateTimeOffset? AskedAt, bool TokenValid);

/// <summary>Works out what should arrive.</summary>
public static class ExpectedSources
{
    /// <summary>Name of the source that is a node's usage.</summary>
    public static string NodeUsage(string node) => "node/" + node;

    /// <summary>Name of the one source of cluster state.</summary>
    public const string ClusterState = "cluster state";

    /// <summary>Name of an application's endpoint.</summary>
    public static string Endpoint(string ns, string pod, int port) => $"{ns}/{pod}:{port}";

    /// <summary>Whether a name is that of an application's endpoint.</summary>
    public static bool IsEndpoint(string? source) => source is not null && source.LastIndexOf(':') is var at and > 0 && source.IndexOf('/') is var slash && slash > 0 && slash < at && at + 1 < source.Length && source.AsSpan(at + 1).IndexOfAnyExceptInRange('0', '9') < 0;

    /// <summary>Name of the source that is a node's kernel.</summary>
    public static string Host(string node) => "host/" + node;

    /// <summary>Name of the source that is a node's container runtime.</summary>
    public static string Runtime(string node) => "runtime/" + node;

    /// <summary>Name of a container's log.</summary>
    public static string Log(string ns, string pod, string container) => $"{ns}/{pod}/{container}";

    /// <summary>Name of the one source of events.</summary>
    public const string ClusterEvents = "cluster events";

    /// <summary>Name of a workload's spans.</summary>
    public static string Spans(string ns, string workload) => $"{ns}/{workload}";

    /// <summary>Name of a node's flow exporter.</summary>
    public static string Flows(string node) => "node/" + node;

    /// <summary>Name of the syslog a node takes.</summary>
    public static string Syslog(string node) => "syslog/" + node;

    /// <summary>What the names of all sources of a machine outside of clusters begin with.</summary>
    public const string Machines = "machine/";

    /// <summary>Name of the kernel of a machine outside of clusters.</summary>
    public static string MachineHost(string machine) => Machines + machine;

    /// <summary>Name of log files of such a machine.</summary>
    public static string MachineFiles(string machine, string path) => Machines + machine + path;

    /// <summary>Name of an endpoint such a machine reads.</summary>
    public static string MachineEndpoint(string machine, string endpoint) => $"{Machines}{machine} {endpoint}";

    /// <summary>Name of what an agent says of itself.</summary>
    public static string Own(string node) => "agent/" + node;

    /// <summary>Name of what a server measures of itself.</summary>
    public static string Server(string server) => "server/" + server;

    /// <summary>What stands for a signal where an agent reports of its further destinations.</summary>
    public const string Destinations = "destinations";

    /// <summary>Under which an agent reports how a further destination takes what it sends.</summary>
    public static string Destination(string name, string agent) => $"destination/{name} of {agent}";

    /// <summary>How an agent begins to say that the collector in which traces are gathered does not take them.</summary>
    public const string NotGathered = "not taken where traces are gathered";

    // Logs, spans and flows may be quiet; that they are complete is known by the agent's reports, three a minute.
    private const int ReportSeconds = 60;

    /// <summary>All sources a plan in force leads to.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="inventory">The cluster now.</param>
    public static IReadOnlyList<ExpectedSource> Of(CollectionPlan plan, Inventory inventory)
    {
        var agents = inventory.Pods.Where(pod => pod.Namespace == Manifests.Namespace).ToArray();
        var byNode = agents.Where(pod => pod.Workload == Manifests.Agent)
            .GroupBy(pod => pod.Node).ToDictionary(group => group.Key, group => group.OrderBy(pod => pod.Created).Last());
        var state = agents.LastOrDefault(pod => pod.Workload == Manifests.StateCollector);
        PodState? Agent(string node) => byNode.GetValueOrDefault(node);
        var list = new List<ExpectedSource>();
        if (plan.Metrics is { } metrics)
        {
            if (metrics.ResourceUsage)
                list.AddRange(inventory.Nodes.Select(node => One("metrics", NodeUsage(node.Name), SourceKind.NodeUsage, null, "agent on " + node.Name, Agent(node.Name), null, metrics.EverySeconds)));
            if (metrics.HostMetrics)
                list.AddRange(inventory.Nodes.Select(node => One("metrics", Host(node.Name), SourceKind.HostMetrics, null, "agent on " + node.Name, Agent(node.Name), null, metrics.EverySeconds)));
            if (metrics.RuntimePath is not null)
                list.AddRange(inventory.Nodes.Select(node => One("metrics", Runtime(node.Name), SourceKind.RuntimePage, null, "agent on " + node.Name, Agent(node.Name), null, metrics.EverySeconds)));
            if (metrics.ClusterState)
                list.Add(One("metrics", ClusterState, SourceKind.ClusterState, null, "state collector", state, null, metrics.EverySeconds));
            if (metrics.Endpoints)
                list.AddRange(
                    from pod in inventory.Pods
                    where IsCollected(metrics, pod)
                    from container in pod.Containers
                    from port in container.Ports
                    where port.Name == metrics.EndpointPort
                    select One("metrics", Endpoint(pod.Namespace, pod.Name, port.Number), SourceKind.Endpoint, pod.Namespace, "agent on " + pod.Node, Agent(pod.Node), pod, metrics.EverySeconds));
        }
        if (plan.Logs is { } logs)
        {
            if (logs.Containers)
                list.AddRange(
                    from pod in inventory.Pods
                    where pod.Phase == "Running" && pod.Node.Length > 0 && Chosen(logs.Namespaces, logs.Only, pod)
                    from container in pod.Containers
                    select One("logs", Log(pod.Namespace, pod.Name, container.Name), SourceKind.ContainerLog, pod.Namespace, "agent on " + pod.Node, Agent(pod.Node), pod, ReportSeconds));
            if (logs.Syslog)
                list.AddRange(inventory.Nodes.Select(node => One("logs", Syslog(node.Name), SourceKind.Syslog, null, "machines that send to " + node.Name, Agent(node.Name), null, ReportSeconds)));
            if (logs.Events)
                list.Add(One("logs", ClusterEvents, SourceKind.ClusterEvents, null, "state collector", state, null, ReportSeconds));
        }
        if (plan.Traces is { } traces)
            list.AddRange(
                from pod in inventory.Pods
                where pod.Phase == "Running" && pod.Containers.Any(container => container.SendsSpans) && Chosen(traces.Namespaces, traces.Only, pod)
                group pod by (pod.Namespace, pod.Workload) into workload
                let first = workload.OrderByDescending(pod => pod.Ready).ThenBy(pod => pod.Created).First()
                select One("traces", Spans(workload.Key.Namespace, workload.Key.Workload), SourceKind.WorkloadSpans, workload.Key.Namespace, "its pods, by their agents", Agent(first.Node), first, ReportSeconds));
        if (plan.Flows is not null)
            list.AddRange(inventory.Nodes.Select(node => One("flows", Flows(node.Name), SourceKind.FlowExporter, null, "flow exporter of " + node.Name, Agent(node.Name), null, ReportSeconds)));
        var nodes = inventory.Nodes.ToDictionary(node => node.Name);
        return [.. list.Select(source => source with { Node = nodes.GetValueOrDefault(NodeOf(source)) })];
    }

    /// <summary>All sources the plan of a machine outside of clusters leads to.</summary>
    public static IReadOnlyList<ExpectedSource> Of(MachinePlan plan, MachineState machine)
    {
        ExpectedSource One(string signal, string name, SourceKind kind, int every) =>
            new(signal, name, kind, null, "agent on " + machine.Name, null, null, every, machine.InstalledAt) { Machine = machine };
        return
        [
            .. plan.HostMetrics ? [One("metrics", MachineHost(machine.Name), SourceKind.MachineHost, plan.EverySeconds)] : Array.Empty<ExpectedSource>(),
            .. (plan.Endpoints ?? []).Select(endpoint => One("metrics", MachineEndpoint(machine.Name, endpoint.Name), SourceKind.MachineEndpoint, plan.EverySeconds)),
            .. (plan.Files ?? []).Select(file => One("logs", MachineFiles(machine.Name, file), SourceKind.MachineFiles, ReportSeconds)),
            .. plan.Syslog ? [One("logs", MachineEndpoint(machine.Name, "syslog"), SourceKind.Syslog, ReportSeconds)] : Array.Empty<ExpectedSource>(),
        ];
    }

    // A source of a node carries the node's name; what a node's agent reads is on that node too.
    private static string NodeOf(ExpectedSource source) => source.Kind switch
    {
        SourceKind.NodeUsage or SourceKind.HostMetrics or SourceKind.RuntimePage or SourceKind.FlowExporter or SourceKind.Syslog => source.Name[(source.Name.IndexOf('/') + 1)..],
        _ => source.Agent?.Node ?? source.Target?.Node ?? "",
    };

    /// <summary>Whether the endpoints of a pod are read under a plan.</summary>
    public static bool IsCollected(MetricsPlan metrics, PodState pod) =>
        metrics.Endpoints && pod.Phase == "Running" && pod.Node.Length > 0 && pod.Addresses.Count > 0 && Chosen(metrics.Namespaces, metrics.Only, pod);

    /// <summary>Whether a namespace is among the chosen ones; none chosen means all.</summary>
    public static bool Chosen(IReadOnlyList<string>? namespaces, string ns) => namespaces is not { Count: > 0 } chosen || chosen.Contains(ns);

    /// <summary>Whether a pod is chosen: its namespace, and itself.</summary>
    public static bool Chosen(IReadOnlyList<string>? namespaces, Selection? only, PodState pod) => Chosen(namespaces, pod.Namespace) && only?.Fits(pod) != false;

    private static ExpectedSource One(
        string signal, string name, SourceKind kind, string? ns, string sentBy, PodState? agent, PodState? target, int interval)
    {
        var ready = ReadySince(agent);
        if (target is not null)
            ready = ReadySince(target) is { } own && ready is { } other ? (own > other ? own : other) : null;
        return new(signal, name, kind, ns, sentBy, agent, target, interval, ready);
    }

    private static DateTimeOffset? ReadySince(PodState? pod) =>
        pod is { Ready: true } ? pod.Conditions.FirstOrDefault(condition => condition.Type == "Ready")?.Since ?? pod.Created : null;
}
