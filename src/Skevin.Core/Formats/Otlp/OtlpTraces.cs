using OpenTelemetry.Proto.Collector.Trace.V1;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Core.Formats.Otlp;

/// <summary>A request taken apart.</summary>
public sealed record ReadTraces(IReadOnlyList<Span> Spans, IReadOnlyList<SourceArrival> Sources, Refusals Refused);

/// <summary>Turns OTLP traces into spans.</summary>
public static class OtlpTraces
{
    /// <summary>Reads all spans of a request.</summary>
    /// <param name="request">The decoded request.</param>
    /// <param name="cluster">The token's cluster; it is the data's cluster whatever the sender says.</param>
    /// <param name="range">Stamps that are taken.</param>
    public static ReadTraces Read(ExportTraceServiceRequest request, string cluster, StampRange range)
    {
        var (spans, refused, sources) = (new List<Span>(), new Refusals(), new SourceTally("traces"));
        foreach (var resource in request.ResourceSpans)
        {
            var common = OtlpAttributes.Read(resource.Resource?.Attributes);
            common["k8s.cluster.name"] = cluster;
            var labels = Labels.From(common);
            var source = SourceOf(labels);
            foreach (var given in resource.ScopeSpans.SelectMany(scope => scope.Spans))
            {
                var (trace, id) = (TraceId.Of(given.TraceId.Span), TraceId.SpanOf(given.SpanId.Span));
                var start = (long)Math.Min(given.StartTimeUnixNano, long.MaxValue);
                if (trace.IsEmpty || id == 0)
                    refused.Add("A span has no valid trace id or span id.");
                else if (given.EndTimeUnixNano < given.StartTimeUnixNano)
                    refused.Add("A span ends before it begins.");
                else if (range.Refuses(start / 1_000_000) is { } why)
                    refused.Add(why);
                else
                {
                    spans.Add(new Span(
                        trace, id, TraceId.SpanOf(given.ParentSpanId.Span), given.Name, (SpanKind)Math.Clamp((int)given.Kind, 0, 5), start, (long)(given.EndTimeUnixNano - given.StartTimeUnixNano),
                        (SpanStatus)Math.Clamp((int)(given.Status?.Code ?? 0), 0, 2), given.Status?.Message ?? "",
                        HeadSampling.Read(given.TraceState) is { } threshold ? HeadSampling.Weight(threshold) : 1,
                        labels, Labels.From(OtlpAttributes.Read(given.Attributes)),
                        [.. given.Events.Select(note => new SpanEvent((long)Math.Min(note.TimeUnixNano, long.MaxValue), note.Name, Labels.From(OtlpAttributes.Read(note.Attributes))))]));
                    if (source is not null)
                        sources.Count(source, start / 1_000_000);
                }
            }
        }
        return new ReadTraces(spans, sources.Arrivals, refused);
    }

    /// <summary>The expected source a resource belongs to: its workload; null where it does not say.</summary>
    public static string? SourceOf(Labels resource) =>
        FieldNames.Value(resource, "namespace") is { } ns && (FieldNames.Value(resource, "workload") ?? FieldNames.Value(resource, "service")) is { } workload ? $"{ns}/{workload}" : null;
}
