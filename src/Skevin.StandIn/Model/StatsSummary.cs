using System.Globalization;
using System.Text.Json.Nodes;

namespace Skevin.StandIn.Model;

/// <summary>A node's stats summary, in the form of the node agent's stats API.</summary>
public static class StatsSummary
{
    /// <summary>The summary of a node with numbers from the model.</summary>
    public static JsonObject Of(SimCluster cluster, string node, DateTimeOffset now)
    {
        var usage = cluster.NodeUsage(node);
        var total = cluster.SizeOf(node).Gib * (1L << 30);
        return new JsonObject
        {
            ["node"] = new JsonObject
            {
                ["nodeName"] = node,
                ["startTime"] = Time(now - TimeSpan.FromDays(23)),
                ["cpu"] = Cpu(usage.CpuSeconds, now),
                ["memory"] = new JsonObject
                {
                    ["time"] = Time(now), ["workingSetBytes"] = Math.Round(usage.Memory), ["usageBytes"] = Math.Round(usage.Memory * 1.08),
                    ["availableBytes"] = Math.Round(total - usage.Memory),
                },
                ["network"] = Network(usage.Received, usage.Sent, now),
                ["fs"] = new JsonObject { ["capacityBytes"] = 120L << 30, ["usedBytes"] = cluster.FreeBytes(node) == 0 ? 120L << 30 : (31L << 30) + (long)(usage.Sent / 900) },
            },
            ["pods"] = new JsonArray([.. cluster.Pods.Where(pod => pod.Node == node && pod.Running).Select(pod => Pod(pod, now))]),
        };
    }

    private static JsonObject Pod(SimPod pod, DateTimeOffset now) => new()
    {
        ["podRef"] = new JsonObject { ["name"] = pod.Name, ["namespace"] = pod.Namespace, ["uid"] = pod.Uid },
        ["startTime"] = Time(pod.Created),
        ["cpu"] = Cpu(pod.PodCpuSeconds, now),
        ["memory"] = Memory(pod.MemoryBytes + pod.SidecarBytes, now),
        ["network"] = Network(pod.ReceivedBytes, pod.SentBytes, now),
        ["containers"] = new JsonArray([Container(pod, pod.Container["name"]!.GetValue<string>(), pod.CpuSeconds, pod.MemoryBytes, now), .. pod.Sidecar is null ? [] : new[] { Container(pod, SimPod.SidecarName, pod.SidecarCpuSeconds, pod.SidecarBytes, now) }]),
    };

    private static JsonObject Container(SimPod pod, string name, double seconds, double bytes, DateTimeOffset now) => new()
    {
        ["name"] = name, ["startTime"] = Time(pod.ContainerStarted), ["cpu"] = Cpu(seconds, now), ["memory"] = Memory(bytes, now),
    };

    private static JsonObject Cpu(double seconds, DateTimeOffset now) => new() { ["time"] = Time(now), ["usageCoreNanoSeconds"] = Math.Round(seconds * 1e9) };

    private static JsonObject Memory(double bytes, DateTimeOffset now) => new()
    {
        ["time"] = Time(now), ["workingSetBytes"] = Math.Round(bytes), ["rssBytes"] = Math.Round(bytes * 0.87),
    };

    private static JsonObject Network(double received, double sent, DateTimeOffset now) => new()
    {
        ["time"] = Time(now), ["name"] = "eth0", ["rxBytes"] = Math.Round(received), ["txBytes"] = Math.Round(sent),
    };

    private static string Time(DateTimeOffset time) => time.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture);
}
