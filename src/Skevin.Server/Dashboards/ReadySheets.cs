using Skevin.Core.Dashboards;

namespace Skevin.Server.Dashboards;

/// <summary>Sheets that ship.</summary>
public static class ReadySheets
{
    /// <summary>All of them.</summary>
    public static readonly Sheet[] All =
    [
        new("cluster-resources", "Cluster resources", "What the cluster uses, by namespace and node.",
        [
            new("Processor used", "by namespace", "container.cpu.time -> rate -> sum by namespace -> highest 5", "lines", 104, "namespace",
                "Rate of the containers' processor time, from each node's stats summary."),
            new("Memory in use", "by namespace", "container.memory.working_set -> sum by namespace -> highest 5", "lines", 96, "namespace",
                "Working set of the containers: what cannot be reclaimed at once."),
            new("Processor by node", "by node", "k8s.node.cpu.time -> rate -> sum by node", "lines", 96, "node",
                "Everything a node does, its own processes included."),
            new("Network received", "by node", "k8s.node.network.io -> where network.io.direction = \"receive\" -> rate -> sum by node", "lines", 96, "node",
                "Rate of the bytes each node received."),
            new("Pods ready", "by namespace", "k8s.container.ready -> sum by namespace -> highest 5", "steps", 92, "namespace",
                "Containers whose readiness check answers, from the cluster's own state."),
            new("Restarts", "by workload", "k8s.container.restart.count -> sum by workload -> highest 4 by max", "steps", 72, "workload",
                "Restarts of the containers, from the cluster's own state."),
        ]),
        new("auction-morning", "Auction morning", "How an opening goes: requests, failures, times, lines, traffic.",
        [
            new("Requests", "answered, by service", "spans -> where kind = \"server\" -> count by service every 1m -> highest 5", "lines", 100, "service",
                "Server spans by minute; sampled ones by their weight."),
            new("Failing requests", "share, by service", "failed: spans -> where kind = \"server\" and status = \"error\" -> count by service every 1m; all: spans -> where kind = \"server\" -> count by service every 1m; failed / all -> as percent -> highest 5 by max", "lines", 92, "service",
                "Server spans that ended with an error, as a share of all server spans of the service."),
            new("Time to answer", "95 % within, by service", "spans -> where kind = \"server\" -> p95 duration by service every 1m -> highest 5", "lines", 100, "service",
                "The 95th percentile of the server spans' durations, exact."),
            new("Log lines", "by level", "logs -> count by level every 1m", "stack", 84, "level",
                "Lines of all containers by minute."),
            new("Dropped flows", "by reason", "flows -> where outcome = \"dropped\" -> count by reason every 1m", "steps", 76, "reason",
                "Flows the nodes dropped, each once, with the reason the node gives."),
            new("Traffic", "bytes a minute, by namespace", "flows -> sum bytes by destination.namespace every 1m -> highest 5", "lines", 84, "destination.namespace",
                "Bytes of flows to each namespace; without a namespace: to the outside."),
        ]),
    ];
}
