using System.Text.Json;
using Skevin.Core.Clusters;

namespace Skevin.Agent.Collection;

/// <summary>Turns a node's stats summary into metrics. Source of the form: the node agent's stats API.</summary>
public static class NodeUsage
{
    /// <summary>Reads a summary.</summary>
    /// <param name="summary">The JSON document.</param>
    /// <param name="pods">Pods of this node, by uid; a pod the cluster API does not list yet is left for the next pass.</param>
    /// <param name="into">Receives the metrics.</param>
    public static void Read(JsonElement summary, IReadOnlyDictionary<string, PodState> pods, MetricsBuilder into)
    {
        if (summary.TryGetProperty("node", out var node) && Text(node, "nodeName") is { } name)
        {
            var attributes = PodAttributes.Node(name);
            Usage(node, "k8s.node", attributes, into);
            if (node.TryGetProperty("fs", out var files))
            {
                Number(files, "usedBytes", value => into.Gauge(attributes, "k8s.node.filesystem.usage", "By", value));
                Number(files, "capacityBytes", value => into.Gauge(attributes, "k8s.node.filesystem.capacity", "By", value));
            }
        }
        if (!summary.TryGetProperty("pods", out var list) || list.ValueKind != JsonValueKind.Array)
            return;
        foreach (var entry in list.EnumerateArray())
        {
            if (!entry.TryGetProperty("podRef", out var reference) || Text(reference, "uid") is not { } uid || !pods.TryGetValue(uid, out var pod))
                continue;
            Usage(entry, "k8s.pod", PodAttributes.Of(pod), into);
            if (!entry.TryGetProperty("containers", out var containers))
                continue;
            foreach (var container in containers.EnumerateArray())
                if (Text(container, "name") is { } containerName)
                    Usage(container, "container", PodAttributes.Of(pod, containerName), into);
        }
    }

    private static void Usage(JsonElement of, string prefix, IReadOnlyList<KeyValuePair<string, string>> attributes, MetricsBuilder into)
    {
        DateTimeOffset? start = Text(of, "startTime") is { } text && DateTimeOffset.TryParse(text, null, System.Globalization.DateTimeStyles.AssumeUniversal, out var at) ? at : null;
        if (of.TryGetProperty("cpu", out var cpu))
            Number(cpu, "usageCoreNanoSeconds", value => into.Counter(attributes, prefix + ".cpu.time", "s", value / 1e9, start));
        if (of.TryGetProperty("memory", out var memory))
        {
            Number(memory, "workingSetBytes", value => into.Gauge(attributes, prefix + ".memory.working_set", "By", value));
            Number(memory, "rssBytes", value => into.Gauge(attributes, prefix + ".memory.rss", "By", value));
            if (prefix == "k8s.node")
                Number(memory, "availableBytes", value => into.Gauge(attributes, prefix + ".memory.available", "By", value));
        }
        if (of.TryGetProperty("network", out var network))
        {
            Number(network, "rxBytes", value => into.Counter(attributes, prefix + ".network.io", "By", value, start, new KeyValuePair<string, string>("network.io.direction", "receive")));
            Number(network, "txBytes", value => into.Counter(attributes, prefix + ".network.io", "By", value, start, new KeyValuePair<string, string>("network.io.direction", "transmit")));
        }
    }

    private static void Number(JsonElement of, string name, Action<double> then)
    {
        if (of.TryGetProperty(name, out var value) && value.ValueKind == JsonValueKind.Number)
            then(value.GetDouble());
    }

    private static string? Text(JsonElement of, string name) =>
        of.TryGetProperty(name, out var value) && value.ValueKind == JsonValueKind.String ? value.GetString() : null;
}
