using Google.Protobuf;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Trace.V1;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;
using Skevin.StandIn.Model;
using Span = OpenTelemetry.Proto.Trace.V1.Span;

namespace Skevin.StandIn.Telemetry;

/// <summary>What a cluster's pods and nodes say of their requests, waiting to be exported: counters, log files, spans, flows.</summary>
public sealed class ClusterTelemetry(PodLogs? logs) : IRequestSink
{
    // As many as an SDK's queue holds for a pod that cannot send, and an exporter's for a node. Source: OpenTelemetry specification,
    // "Batching processor", maxQueueSize 2048.
    private const int MostSpans = 2048;
    private const int MostFlows = 200_000;

    private readonly Lock _lock = new();
    private readonly Dictionary<SimPod, List<Span>> _spans = [];
    private readonly Dictionary<string, List<FlowRecord>> _flows = [];

    /// <summary>Spans and flows given up because nobody took them.</summary>
    public long GivenUp { get; private set; }

    /// <summary>The log files; null where none are written.</summary>
    public PodLogs? Logs => logs;

    /// <inheritdoc/>
    public void Served(ServedRequest request)
    {
        if (!Lives(request.Pod, request.Run))
            return;
        request.Pod.CountRequest(request.Trouble is not null, request.Duration / 1e9, request.Weight);
        if (request.Workload.Traced)
        {
            var inside = request.Workload.From.Length == 0 && request.Parent == 0;
            var span = Begin(request.Trace, request.Span, request.Parent, $"{request.Workload.Method} {request.Workload.Route}", inside ? Span.Types.SpanKind.Internal : Span.Types.SpanKind.Server, request.Start, request.Duration, request.Weight);
            OtlpAttributes.Write(span.Attributes,
                inside ? [] : [new("http.request.method", request.Workload.Method), new("http.route", request.Workload.Route), new("http.response.status_code", request.Status.ToString())]);
            OtlpAttributes.Write(span.Attributes, [new("lot", request.Lot)]);
            End(span, request.Trouble, request.Exception, request.End);
            Add(request.Pod, span);
        }
        if (logs is not null && LogWords.Of(request) is var (stderr, message))
            logs.Write(request.Pod, request.End, stderr, message);
    }

    /// <inheritdoc/>
    public void Called(MadeCall call)
    {
        if (!Lives(call.Pod, call.Run))
            return;
        call.Pod.CountCall(call.Duration / 1e9, call.Weight);
        if (Scenario.Of(call.Pod) is not { Traced: true })
            return;
        var span = Begin(call.Trace, call.Span, call.Parent, $"{call.Method} {call.To}", Span.Types.SpanKind.Client, call.Start, call.Duration, call.Weight);
        OtlpAttributes.Write(span.Attributes, [new("http.request.method", call.Method), new("server.address", call.To), new("server.port", call.Port.ToString()), new("network.peer.address", call.Address?.ToString() ?? "")]);
        if (call.Status > 0)
            OtlpAttributes.Write(span.Attributes, [new("http.response.status_code", call.Status.ToString())]);
        End(span, call.Trouble, call.Exception, call.End);
        Add(call.Pod, span);
    }

    /// <inheritdoc/>
    public void Connected(MadeConnection connection)
    {
        byte Flags(bool denied) => connection.Protocol != 6 ? (byte)0 : denied ? (byte)2 : (byte)0b0001_1011;
        FlowRecord Seen(string node, FlowDirection direction, byte status) => new(
            node, direction, connection.From, connection.To, connection.FromPort, connection.Port, connection.Protocol, Flags(connection.Denied), status,
            connection.Start, connection.End, connection.Packets, connection.Bytes, connection.Method, connection.Target, connection.Host, connection.HttpStatus, (ulong)connection.Weight);
        // On one node a flow is seen once, where it leaves; a policy acts where it arrives.
        var same = connection.FromNode is not null && connection.FromNode == connection.ToNode;
        if (connection.FromNode is { } from)
            Add(from, Seen(from, FlowDirection.Egress, connection.Denied && same ? ForwardingStatus.AclDeny : ForwardingStatus.Forwarded));
        if (connection.ToNode is { } to && !same)
            Add(to, Seen(to, FlowDirection.Ingress, connection.Denied ? ForwardingStatus.AclDeny : ForwardingStatus.Forwarded));
    }

    /// <summary>Takes out the spans of each pod.</summary>
    public IReadOnlyList<(SimPod Pod, List<Span> Spans)> TakeSpans()
    {
        lock (_lock)
        {
            var taken = _spans.Select(pair => (pair.Key, pair.Value)).ToArray();
            _spans.Clear();
            return taken;
        }
    }

    /// <summary>Puts back spans nobody took.</summary>
    public void PutBack(SimPod pod, List<Span> spans)
    {
        lock (_lock)
        {
            var waiting = _spans.GetValueOrDefault(pod, []);
            waiting.InsertRange(0, spans);
            if (waiting.Count > MostSpans)
            {
                GivenUp += waiting.Count - MostSpans;
                waiting.RemoveRange(0, waiting.Count - MostSpans);
            }
            _spans[pod] = waiting;
        }
    }

    /// <summary>Takes out the flows a node's exporter has.</summary>
    public List<FlowRecord> TakeFlows(string node)
    {
        lock (_lock)
            return _flows.Remove(node, out var waiting) ? waiting : [];
    }

    /// <summary>The resource an SDK in a pod gives, from the pod's environment.</summary>
    public static IEnumerable<KeyValuePair<string, string>> ResourceOf(SimPod pod) =>
    [
        new("service.name", pod.OwnerName), new("service.namespace", pod.Namespace), new("k8s.namespace.name", pod.Namespace), new("k8s.pod.name", pod.Name), new("k8s.node.name", pod.Node),
        new($"k8s.{pod.OwnerKind.ToLowerInvariant()}.name", pod.OwnerName), new("telemetry.sdk.language", "dotnet"),
    ];

    private static bool Lives(SimPod pod, DateTimeOffset run) => pod.Running && pod.ContainerStarted == run;

    private static Span Begin(TraceId trace, ulong id, ulong parent, string name, Span.Types.SpanKind kind, long start, long duration, int weight) => new()
    {
        TraceId = ByteString.CopyFrom(trace.Bytes()), SpanId = ByteString.CopyFrom(TraceId.SpanBytes(id)), ParentSpanId = parent == 0 ? ByteString.Empty : ByteString.CopyFrom(TraceId.SpanBytes(parent)),
        Name = name, Kind = kind, StartTimeUnixNano = (ulong)start, EndTimeUnixNano = (ulong)(start + duration), Flags = 1,
        // One in so many was kept: the threshold below which a trace's random part was rejected, without the zeros at its end.
        TraceState = weight == 1 ? "" : "ot=th:" + ((1UL << 56) - (1UL << 56) / (ulong)weight).ToString("x14").TrimEnd('0'),
    };

    private static void End(Span span, string? trouble, (string Type, string Stack)? exception, long end)
    {
        if (trouble is null)
            return;
        span.Status = new Status { Code = Status.Types.StatusCode.Error, Message = trouble };
        if (exception is not var (type, stack))
            return;
        var note = new Span.Types.Event { Name = "exception", TimeUnixNano = (ulong)end };
        OtlpAttributes.Write(note.Attributes, [new("exception.type", type), new("exception.message", trouble), new("exception.stacktrace", $"{type}: {trouble}\n{stack}")]);
        span.Events.Add(note);
    }

    private void Add(SimPod pod, Span span)
    {
        lock (_lock)
        {
            if (!_spans.TryGetValue(pod, out var waiting))
                _spans[pod] = waiting = [];
            waiting.Add(span);
        }
    }

    private void Add(string node, FlowRecord flow)
    {
        lock (_lock)
        {
            if (!_flows.TryGetValue(node, out var waiting))
                _flows[node] = waiting = [];
            waiting.Add(flow);
            if (waiting.Count > MostFlows)
            {
                waiting.RemoveAt(0);
                GivenUp++;
            }
        }
    }
}
