namespace Skevin.Core.Collection;

/// <summary>What is collected from one cluster.</summary>
/// <param name="Metrics">Metrics; null where they are not collected.</param>
public sealed record CollectionPlan(MetricsPlan? Metrics)
{
    /// <summary>The plan a new cluster is offered.</summary>
    public static CollectionPlan Suggested { get; } = new(new MetricsPlan());

    /// <summary>What is wrong with it, in sentences; empty when it can be rolled out.</summary>
    public IEnumerable<string> Problems()
    {
        if (Metrics is null || !(Metrics.ResourceUsage || Metrics.ClusterState || Metrics.Endpoints))
            yield return "The plan collects nothing. Switch on at least one kind of source.";
        if (Metrics is null)
            yield break;
        if (Metrics.EverySeconds is < 1 or > 300)
            yield return "Metrics are read every 1 s to 5 min.";
        if (Metrics.Endpoints && !Metrics.EndpointPath.StartsWith('/'))
            yield return "The path of application endpoints begins with '/', for example /metrics.";
        if (Metrics.Endpoints && Metrics.EndpointPort.Length == 0)
            yield return "Application endpoints are found by the name of a container port, for example metrics.";
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
public sealed record MetricsPlan(
    bool ResourceUsage = true, bool ClusterState = true, bool Endpoints = true, int EverySeconds = 15,
    string EndpointPort = "metrics", string EndpointPath = "/metrics", IReadOnlyList<string>? Namespaces = null);

/// <summary>What the agent reads from its configuration object.</summary>
/// <param name="Cluster">Name put on all data.</param>
/// <param name="Revision">Revision of the plan.</param>
/// <param name="Server">Base address of the server, for example <c>http://skevin:5180</c>.</param>
/// <param name="Plan">What to collect.</param>
/// <param name="BufferBytes">Most the agent keeps on its disk.</param>
public sealed record AgentConfiguration(string Cluster, int Revision, string Server, CollectionPlan Plan, long BufferBytes);
