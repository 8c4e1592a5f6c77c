using System.Net;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Logs.V1;
using OpenTelemetry.Proto.Trace.V1;
using Skevin.Core.Formats.Ipfix;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;
using Span = OpenTelemetry.Proto.Trace.V1.Span;

namespace Skevin.Server.Tests.Signals;

/// <summary>Small requests of logs, traces and flows.</summary>
internal static class SignalRequests
{
    public static ulong Nano(DateTimeOffset time) => (ulong)time.ToUnixTimeMilliseconds() * 1_000_000;

    public static ExportLogsServiceRequest Logs(IEnumerable<(DateTimeOffset Time, int Severity, string Text)> lines, params (string, string)[] resource)
    {
        var owner = new ResourceLogs { Resource = new() };
        owner.Resource.Attributes.AddRange(OtlpBuilder.Attributes(resource));
        var scope = new ScopeLogs();
        scope.LogRecords.AddRange(lines.Select(line => new LogRecord { TimeUnixNano = Nano(line.Time), SeverityNumber = line.Severity, Body = new AnyValue { StringValue = line.Text } }));
        owner.ScopeLogs.Add(scope);
        return new ExportLogsServiceRequest { ResourceLogs = { owner } };
    }

    public static Span Span(TraceId trace, ulong id, ulong parent, DateTimeOffset start, double ms, Span.Types.SpanKind kind = OpenTelemetry.Proto.Trace.V1.Span.Types.SpanKind.Server, bool failed = false, string state = "") => new()
    {
        TraceId = ByteString.CopyFrom(trace.Bytes()), SpanId = ByteString.CopyFrom(TraceId.SpanBytes(id)), ParentSpanId = parent == 0 ? ByteString.Empty : ByteString.CopyFrom(TraceId.SpanBytes(parent)),
        Name = "POST /bids", Kind = kind, StartTimeUnixNano = Nano(start), EndTimeUnixNano = Nano(start) + (ulong)(ms * 1e6), TraceState = state,
        Status = failed ? new Status { Code = Status.Types.StatusCode.Error, Message = "no answer" } : null,
    };

    public static ExportTraceServiceRequest Traces(IEnumerable<Span> spans, params (string, string)[] resource)
    {
        var owner = new ResourceSpans { Resource = new() };
        owner.Resource.Attributes.AddRange(OtlpBuilder.Attributes(resource));
        var scope = new ScopeSpans();
        scope.Spans.AddRange(spans);
        owner.ScopeSpans.Add(scope);
        return new ExportTraceServiceRequest { ResourceSpans = { owner } };
    }

    public static FlowRecord Flow(string from, string to, DateTimeOffset end, FlowDirection direction = FlowDirection.Egress, byte status = ForwardingStatus.Forwarded, string node = "north-1") => new(
        node, direction, IPAddress.Parse(from), IPAddress.Parse(to), 40_000, 8080, 6, 0x1b, status, end.ToUnixTimeMilliseconds() - 20, end.ToUnixTimeMilliseconds(), 6, 700, "GET", "/lots/A-1", "lot-cache", 200);

    /// <summary>A request that stands by itself: templates, the node's name, flows.</summary>
    public static byte[] Ipfix(string node, params FlowRecord[] flows)
    {
        var writer = new IpfixWriter();
        writer.Template(FlowIpfix.V4);
        writer.Template(FlowIpfix.V6);
        writer.Template(FlowIpfix.DomainName);
        writer.Record(FlowIpfix.DomainName);
        writer.Number(1, 4);
        writer.Variable(node);
        foreach (var flow in flows)
            FlowIpfix.Write(writer, flow);
        return writer.Finish((uint)DateTimeOffset.UtcNow.ToUnixTimeSeconds(), 0, 1);
    }
}
