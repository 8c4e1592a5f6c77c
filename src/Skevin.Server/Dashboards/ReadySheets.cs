using Skevin.Core.Dashboards;

namespace Skevin.Server.Dashboards;

/// <summary>Sheets that ship.</summary>
public static class ReadySheets
{
    // At these shares a thing is worth a look, and worth an hour.
    private static readonly StripBound[] Fullness = [new("80%", "warning"), new("95%", "major")];
    private static readonly StripBound[] Failing = [new("1%", "minor"), new("5%", "major")];

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
        new("glance", "Cluster at a glance", "How big the cluster is, how full, and whether what should run runs.",
        [
            new("Nodes", "that are ready", "k8s.node.condition.status -> where k8s.node.condition.type = \"Ready\" -> sum every 1m", "figure", 48, "node", "Nodes whose kubelet says it is ready."),
            new("Processor", "used of what is allocatable", "use: k8s.node.cpu.time -> rate every 1m -> sum; most: k8s.node.cpu.allocatable -> sum; use / most -> as percent", "gauge", 48, "node", "Everything the nodes do, as a share of what pods may ask for.", Bounds: Fullness),
            new("Memory", "used of what is allocatable", "use: k8s.node.memory.working_set -> sum every 1m; most: k8s.node.memory.allocatable -> sum; use / most -> as percent", "gauge", 48, "node", "Working set of everything on the nodes, as a share of what pods may ask for.", Bounds: Fullness),
            new("Disk", "used, of all nodes", "use: k8s.node.filesystem.usage -> sum every 1m; most: k8s.node.filesystem.capacity -> sum; use / most -> as percent", "gauge", 48, "node", "The nodes' file systems, from each node's stats summary.", Bounds: Fullness),
            new("Pods", "by phase", "k8s.pod.status.phase -> sum by k8s.pod.status.phase every 1m", "ranked", 84, "k8s.pod.status.phase", "Pods by the phase the cluster gives them.", Colours: new Dictionary<string, string> { ["Failed"] = "critical", ["Pending"] = "minor", ["Running"] = "clear" }),
            new("Missing replicas", "of deployments", "want: k8s.deployment.pod.desired -> sum by workload every 1m; have: k8s.deployment.pod.available -> sum by workload; want - have -> highest 4", "ranked", 84, "workload", "Replicas a deployment should have and that are not available.", Bounds: [new("0", "major")]),
            new("Events that warn", "by reason", "events -> where level = \"warn\" -> count by k8s.event.reason every 5m -> highest 6", "bars", 84, "k8s.event.reason", "Warnings the cluster reports."),
            new("Processor used", "by namespace", "container.cpu.time -> rate -> sum by namespace -> highest 6", "stack", 104, "namespace", "Rate of the containers' processor time."),
            new("Memory in use", "by namespace", "container.memory.working_set -> sum by namespace -> highest 6", "stack", 104, "namespace", "Working set of the containers."),
        ]),
        new("namespaces", "Namespaces", "What each namespace uses of the cluster, sends, and says.",
        [
            new("Most processor", "now, by namespace", "container.cpu.time -> rate every 1m -> sum by namespace -> highest 10", "ranked", 190, "namespace", "Rate of the containers' processor time."),
            new("Most memory", "now, by namespace", "container.memory.working_set -> sum by namespace every 1m -> highest 10", "ranked", 190, "namespace", "Working set of the containers."),
            new("Processor", "one under the other", "container.cpu.time -> rate -> sum by namespace -> highest 6", "apart", 260, "namespace", "The six that use most, each with an axis of its own: what moves together is read straight down."),
            new("Bytes", "a minute, by namespace they come from", "flows -> sum bytes by source.namespace every 1m -> highest 6", "stack", 104, "source.namespace", "Without a namespace: from the outside."),
            new("Warnings and errors", "lines a minute", "logs -> where level in (\"warn\", \"error\") -> count by namespace every 1m -> highest 6", "bars", 84, "namespace", "Lines of all containers by minute."),
        ]),
        new("pods", "Pods", "What single pods use; choose some of them above.",
        [
            new("Most processor", "now, by pod", "container.cpu.time -> rate every 1m -> sum by pod -> highest 10", "ranked", 190, "pod", "Rate of the containers' processor time."),
            new("Most memory", "now, by pod", "container.memory.working_set -> sum by pod every 1m -> highest 10", "ranked", 190, "pod", "Working set of the containers."),
            new("Processor", "by pod", "container.cpu.time -> rate -> sum by pod -> highest 8", "lines", 110, "pod", "The eight that use most."),
            new("Memory", "share of its limit, nearest first", "use: container.memory.working_set -> sum by pod; most: k8s.container.memory.limit -> sum by pod; use / most -> as percent -> highest 8", "lines", 110, "pod", "Working set against the containers' limits: at 100 % a container is killed.", Bounds: Fullness),
            new("Restarts", "by pod", "k8s.container.restart.count -> sum by pod -> highest 6 by max", "steps", 72, "pod", "Restarts of the containers, from the cluster's own state."),
            new("Received", "by pod", "k8s.pod.network.io -> where network.io.direction = \"receive\" -> rate -> sum by pod -> highest 6", "lines", 84, "pod", "Rate of the bytes each pod received."),
            new("What they say", "warnings and errors", "logs -> where level in (\"warn\", \"error\") -> first 40", "log", 190, "", "The newest lines of the window."),
        ], Choices: [new("pod", "container.cpu.time"), new("node", "container.cpu.time")]),
        new("auction-morning", "Auction morning", "How an opening goes: requests, failures, times, lines, traffic.",
        [
            new("Requests", "answered, by service", "spans -> where kind = \"server\" -> count by service every 1m -> highest 5", "lines", 100, "service",
                "Server spans by minute; sampled ones by their weight."),
            new("Failing requests", "share, by service", "failed: spans -> where kind = \"server\" and status = \"error\" -> count by service every 1m; all: spans -> where kind = \"server\" -> count by service every 1m; failed / all -> as percent -> highest 5 by max", "lines", 92, "service",
                "Server spans that ended with an error, as a share of all server spans of the service.", Bounds: Failing),
            new("Time to answer", "95 % within, by service", "spans -> where kind = \"server\" -> p95 duration by service every 1m -> highest 5", "lines", 100, "service",
                "The 95th percentile of the server spans' durations, exact."),
            new("Log lines", "by level", "logs -> count by level every 1m", "stack", 84, "level",
                "Lines of all containers by minute."),
            new("Dropped flows", "by reason", "flows -> where outcome = \"dropped\" -> count by reason every 1m", "steps", 76, "reason",
                "Flows the nodes dropped, each once, with the reason the node gives."),
            new("Traffic", "bytes a minute, by namespace", "flows -> sum bytes by destination.namespace every 1m -> highest 5", "lines", 84, "destination.namespace",
                "Bytes of flows to each namespace; without a namespace: to the outside."),
        ]),
        new("nodes", "Nodes", "How full each node is, and what its kernel says.",
        [
            new("Memory in use", "of all nodes", "k8s.node.memory.working_set -> sum every 1m", "figure", 110, "node", "Working set of everything on all nodes."),
            new("Fullest by memory", "now", "k8s.node.memory.working_set -> max by node every 1m", "ranked", 110, "node", "Working set of everything on a node."),
            new("Processor by mode", "of all nodes", "system.cpu.time -> where not cpu.mode = \"idle\" -> rate -> sum by cpu.mode", "stack", 110, "cpu.mode", "What the kernels counted beside being idle."),
            new("Processor by node", "everything on it", "k8s.node.cpu.time -> rate -> sum by node", "lines", 96, "node", "From each node's stats summary."),
            new("Memory by node", "working set", "k8s.node.memory.working_set -> sum by node", "lines", 96, "node", "What cannot be reclaimed at once."),
            new("Network sent", "by node", "k8s.node.network.io -> where network.io.direction = \"transmit\" -> rate -> sum by node", "lines", 84, "node", "Rate of the bytes each node sent."),
            new("Disk", "read and written, by node", "system.disk.io -> rate -> sum by node", "lines", 84, "node", "Rate of the bytes of the node's disks."),
        ], Choices: [new("node", "k8s.node.cpu.time")]),
        new("workloads", "Workloads and pods", "What runs, what it uses, what is not well.",
        [
            new("Most processor", "now, by workload", "container.cpu.time -> rate every 1m -> sum by workload -> highest 8", "ranked", 176, "workload", "Rate of the containers' processor time."),
            new("Most memory", "now, by workload", "container.memory.working_set -> sum by workload every 1m -> highest 8", "ranked", 176, "workload", "Working set of the containers."),
            new("Restarts", "so far, by workload", "k8s.container.restart.count -> sum by workload -> highest 8 by max", "table", 176, "workload", "Restarts of the containers, from the cluster's own state."),
            new("Processor", "by workload", "container.cpu.time -> rate -> sum by workload -> highest 6", "lines", 110, "workload", "The six that use most."),
            new("Memory", "share of its limit, nearest first", "use: container.memory.working_set -> sum by workload; most: k8s.container.memory.limit -> sum by workload; use / most -> as percent -> highest 6", "lines", 110, "workload", "Working set against the containers' limits: at 100 % a container is killed.", Bounds: Fullness),
            new("Events that warn", "by reason", "events -> where level = \"warn\" -> count by k8s.event.reason every 5m", "steps", 72, "k8s.event.reason", "Warnings the cluster reports."),
        ], Choices: [new("node", "container.cpu.time")]),
        new("services", "Services", "Rate, errors and time of what answers requests.",
        [
            new("Requests", "answered, by service", "spans -> where kind = \"server\" -> count by service every 1m -> highest 6", "lines", 100, "service", "Server spans by minute; sampled ones by their weight."),
            new("Failing", "share, by service", "failed: spans -> where kind = \"server\" and status = \"error\" -> count by service every 1m; all: spans -> where kind = \"server\" -> count by service every 1m; failed / all -> as percent -> highest 6 by max", "lines", 100, "service", "Server spans that ended with an error, as a share of all.", Bounds: Failing),
            new("Half answered within", "by service", "spans -> where kind = \"server\" -> p50 duration by service every 1m -> highest 6", "lines", 84, "service", "Median of the server spans' durations."),
            new("95 % answered within", "by service", "spans -> where kind = \"server\" -> p95 duration by service every 1m -> highest 6", "lines", 84, "service", "95th percentile of the server spans' durations."),
            new("Slowest traces", "of the window", "spans -> traces -> order duration down -> first 8", "table", 190, "", "Whole traces by how long they took."),
        ], Choices: [new("service", "spans")]),
        new("entry", "Entry traffic", "What comes in from outside and how it is answered.",
        [
            new("Requests at the gate", "by status", "http_server_requests -> where workload = \"gatehouse\" -> rate -> sum by http_response_status_code", "stack", 100, "http_response_status_code", "What the gate answered, from its own counter."),
            new("Time at the gate", "95 % within", "spans -> where service = \"gatehouse\" and kind = \"server\" -> p95 duration every 1m", "lines", 84, "", "From the gate's server spans."),
            new("From where", "bytes a minute, by source", "flows -> where destination = \"gatehouse\" -> sum bytes by source every 1m -> highest 5", "lines", 84, "source", "Flows to the gate, by who sent them."),
        ]),
        new("logs", "Logs", "How much is written, how bad it is, and what it says most.",
        [
            new("Lines", "by level", "logs -> count by level every 1m", "stack", 96, "level", "Lines of all containers by minute."),
            new("Who writes most", "lines a minute", "logs -> count by workload every 1m -> highest 8", "ranked", 176, "workload", "Lines of the newest minute."),
            new("Kinds of error", "of the window", "logs -> where level = \"error\" -> kinds -> first 8", "table", 176, "", "Error lines by what they have in common."),
            new("Errors", "by workload", "logs -> where level = \"error\" -> count by workload every 1m -> highest 5 by max", "lines", 96, "workload", "Error lines by minute."),
        ], Choices: [new("workload", "logs"), new("level", "logs")]),
        new("traffic", "Traffic", "Who talks to whom, how much, and what is dropped.",
        [
            new("Bytes", "a minute, by namespace they go to", "flows -> sum bytes by destination.namespace every 1m -> highest 6", "stack", 110, "destination.namespace", "Without a namespace: to the outside."),
            new("Dropped", "by reason", "flows -> where outcome = \"dropped\" -> count by reason every 1m", "steps", 84, "reason", "Flows the nodes dropped, with the reason they give."),
            new("Largest talkers", "bytes a minute", "flows -> sum bytes by source every 1m -> highest 8", "ranked", 176, "source", "Who sent most in the newest minute."),
            new("Most asked for", "flows a minute", "flows -> count by destination every 1m -> highest 8", "ranked", 176, "destination", "Who was sent to most often in the newest minute."),
            new("Lanes", "who talks to whom", "flows -> graph", "lanes", 460, "", "Flows of the window from workload to workload; dashes are dropped ones. A chosen ribbon tells its story."),
        ]),
        new("names", "Name service", "Whether names are resolved.",
        [
            new("Look-ups", "flows to port 53", "flows -> where destination.port = 53 -> count by destination every 1m", "lines", 96, "destination", "Flows to the name service."),
            new("Processor of the name service", "in all", "container.cpu.time -> where workload = \"name-service\" -> rate -> sum", "lines", 84, "", "Rate of its containers' processor time."),
            new("Names not resolved", "lines that say so", "logs -> where text says \"resolved\" -> count by workload every 1m", "steps", 84, "workload", "Lines of callers that gave up on a name."),
        ]),
        new("collection", "Collection", "Whether everything that should arrive does, and what collecting costs.",
        [
            new("Sources", "by state", "arrivals -> count by state", "table", 110, "state", "Expected sources as they are judged now."),
            new("Processor of the agents", "by node", "container.cpu.time -> where namespace = \"skevin-agents\" -> rate -> sum by node", "stack", 96, "node", "What collecting costs in processor time."),
            new("Memory of the agents", "by node", "container.memory.working_set -> where namespace = \"skevin-agents\" -> sum by node", "lines", 84, "node", "Working set of the agents."),
            new("Waiting in the agents' buffers", "by node", "skevin.agent.buffer.usage -> sum by node", "lines", 84, "node", "What is sealed on the nodes' disks and not accepted yet."),
            new("Sent by the agents", "by signal", "skevin.agent.items.sent -> rate -> sum by skevin.signal", "lines", 84, "skevin.signal", "Samples, lines, spans and flow records a second that the server accepted."),
            new("Sources that fail", "by node", "skevin.agent.sources.failing -> sum by node", "steps", 70, "node", "Sources whose last read brought an error."),
        ], Choices: [new("node", "skevin.agent.items.sent")]),
        new("skevin", "Skevin itself", "Whether the servers keep up with what they take in and what they are asked.",
        [
            new("Taken in", "items a second, by signal", "skevin.server.items.accepted -> rate -> sum by skevin.signal", "lines", 96, "skevin.signal", "Samples, log records, spans and flow records that were committed."),
            new("Refused", "items a second, by signal", "skevin.server.items.refused -> rate -> sum by skevin.signal", "steps", 70, "skevin.signal", "Items of requests that were taken, refused by their stamp or form."),
            new("Half of the enquiries within", "", "skevin.server.enquiry.duration -> rise -> p50", "lines", 84, "", "Half of all enquiries were answered faster."),
            new("95 % of requests within", "by route, slowest six", "http.server.request.duration -> rise -> p95 by http.route -> highest 6", "lines", 96, "http.route", "Requests of the page and of senders, by the address they go to."),
            new("Passes of the workers", "95 % within, by worker", "skevin.server.worker.duration -> rise -> p95 by skevin.worker", "lines", 84, "skevin.worker", "Judging rules, folding, merging: a worker that takes longer than its turn falls behind."),
            new("Memory", "by server", "dotnet.process.memory.working_set -> sum by service.instance.id", "lines", 84, "service.instance.id", "Working set of each server process."),
            new("Processor", "by server", "dotnet.process.cpu.time -> rate -> sum by service.instance.id", "lines", 84, "service.instance.id", "Processor time of each server process."),
        ]),
    ];
}
