using System.Globalization;
using System.Text;
using System.Text.Json;
using Skevin.Core.Formats.ContainerLog;
using Skevin.Core.Traces;
using Skevin.StandIn.Model;

namespace Skevin.StandIn.Telemetry;

/// <summary>
/// Log files of the containers of a cluster, a folder a node, as the container runtime writes them: rotated by size, long messages
/// split into parts. Source: container runtime interface, log format.
/// </summary>
public sealed class PodLogs(string folder)
{
    private const int LongestPart = 16 * 1024;
    private const long RotateAt = 1 << 20;
    private const int KeptRotated = 4;

    private sealed class Container
    {
        public required string Path { get; init; }
        public StringBuilder Waiting { get; } = new();
        public long Length { get; set; }
    }

    private readonly Dictionary<string, Container> _open = [];

    /// <summary>Root of a node's files.</summary>
    public string NodeRoot(string node) => Path.Combine(folder, "nodes", node);

    /// <summary>Folder of a pod's logs.</summary>
    public string PodFolder(SimPod pod) => Path.Combine(NodeRoot(pod.Node), "var/log/pods", $"{pod.Namespace}_{pod.Name}_{pod.Uid}");

    /// <summary>Writes what a container says.</summary>
    /// <param name="time">Nanoseconds since the epoch.</param>
    /// <param name="of">Which container; null for the first.</param>
    public void Write(SimPod pod, long time, bool stderr, string message, string? of = null)
    {
        var waiting = Of(pod, of ?? pod.Container["name"]!.GetValue<string>()).Waiting;
        for (var at = 0; at < message.Length || at == 0; at += LongestPart)
        {
            var part = message.AsSpan(at, Math.Min(LongestPart, message.Length - at));
            waiting.Append(ContainerLogLine.Write(time, stderr, at + part.Length < message.Length, part.ToString()));
        }
    }

    /// <summary>Brings what was written to the disk, and rotates what has grown.</summary>
    /// <param name="now">The model's time.</param>
    /// <param name="scarce">Of which pods the runtime keeps no more than what it was just given; null for none.</param>
    public void Flush(DateTimeOffset now, Func<string, bool>? scarce = null)
    {
        foreach (var (key, container) in _open.Where(pair => pair.Value.Waiting.Length > 0))
        {
            var bytes = Encoding.UTF8.GetBytes(container.Waiting.ToString());
            container.Waiting.Clear();
            Directory.CreateDirectory(Path.GetDirectoryName(container.Path)!);
            using (var file = new FileStream(container.Path, FileMode.Append, FileAccess.Write, FileShare.ReadWrite | FileShare.Delete))
                file.Write(bytes);
            container.Length += bytes.Length;
            var little = scarce?.Invoke(key.Split('/')[0]) == true;
            if (container.Length < RotateAt && !little)
                continue;
            File.Move(container.Path, container.Path + now.UtcDateTime.ToString(".yyyyMMdd-HHmmss", CultureInfo.InvariantCulture), overwrite: true);
            container.Length = 0;
            foreach (var old in Directory.EnumerateFiles(Path.GetDirectoryName(container.Path)!, Path.GetFileName(container.Path) + ".*").OrderDescending(StringComparer.Ordinal).Skip(little ? 1 : KeptRotated))
                File.Delete(old);
        }
    }

    /// <summary>Takes a pod's files away.</summary>
    public void Remove(SimPod pod)
    {
        foreach (var key in _open.Keys.Where(key => key.StartsWith(pod.Uid, StringComparison.Ordinal)).ToArray())
            _open.Remove(key);
        if (pod.Node.Length > 0 && Directory.Exists(PodFolder(pod)))
            Directory.Delete(PodFolder(pod), recursive: true);
    }

    private Container Of(SimPod pod, string name)
    {
        var key = $"{pod.Uid}/{name}/{pod.Restarts}";
        if (_open.TryGetValue(key, out var container))
            return container;
        var path = Path.Combine(PodFolder(pod), name, $"{pod.Restarts}.log");
        return _open[key] = new Container { Path = path, Length = File.Exists(path) ? new FileInfo(path).Length : 0 };
    }
}

/// <summary>What the workloads say of their requests: one line each, JSON or plain.</summary>
public static class LogWords
{
    private const double Slow = 0.4;
    private const int LongStatement = 20_000;

    /// <summary>The line of a request.</summary>
    public static (bool Stderr, string Message) Of(ServedRequest request)
    {
        var (workload, took) = (request.Workload, request.Duration / 1e9);
        var ms = Math.Round(took * 1000).ToString(CultureInfo.InvariantCulture);
        var (trace, span) = (request.Trace.ToString(), TraceId.SpanText(request.Span));
        var target = $"{workload.Method} {workload.Route.Replace("{lot}", request.Lot)}";
        if (workload.JsonLogs)
        {
            var fields = new Dictionary<string, object>
            {
                ["level"] = request.Trouble is not null ? "error" : workload.Name == "ledger" && took > Slow ? "warn" : "info",
                ["message"] = request.Trouble is { } why ? $"{Subject(workload)} {request.Lot} refused: {why}"
                    : workload.Name == "ledger" && took > Slow ? $"slow write of lot {request.Lot} took {ms} ms"
                    : $"{Subject(workload)} {request.Lot} done in {ms} ms",
                ["lot"] = request.Lot, ["took_ms"] = Math.Round(took * 1000), ["http"] = new Dictionary<string, object> { ["status"] = request.Status }, ["trace_id"] = trace, ["span_id"] = span,
            };
            if (request.Exception is var (type, stack))
                (fields["exception.type"], fields["exception.stacktrace"]) = (type, stack);
            return (request.Trouble is not null, JsonSerializer.Serialize(fields));
        }
        // The gate logs the header it passes on; the others write trace and span.
        var context = workload.Name == "gatehouse" ? "traceparent=" + TraceParent.Write(request.Trace, request.Span, sampled: true) : $"trace={trace} span={span}";
        var text = request.Trouble is { } trouble
            ? $"ERROR {target} {request.Status} in {ms} ms: {trouble} {context}"
            : $"INFO {target} {request.Status} in {ms} ms {context}";
        // Now and then a whole statement is printed: longer than the runtime's lines may be.
        if (workload.Name == "statements" && request.Trouble is null && request.Trace.Low % 20 == 0)
            text += " statement: " + string.Concat(Enumerable.Range(0, LongStatement / 20).Select(i => $"{request.Lot} item {i:D6}; "));
        return (request.Trouble is not null, text);
    }

    private static string Subject(ScenarioWorkload workload) => workload.Name switch { "bid-gateway" => "bid on lot", "ledger" => "write of lot", _ => "settlement of lot" };
}
