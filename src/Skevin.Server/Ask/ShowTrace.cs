using Skevin.Core.Access;
using Skevin.Core.Series;
using Skevin.Core.Traces;
using Skevin.Server.Setup;

namespace Skevin.Server.Ask;

/// <summary>An exception noted in a span.</summary>
public sealed record ExceptionView(string? Type, string? Message, string? Stack);

/// <summary>A span of a trace. Of a span the reader may not see there are only its times and ids.</summary>
/// <param name="Start">Epoch milliseconds, with fractions.</param>
/// <param name="Duration">Seconds.</param>
/// <param name="Foreign">In a namespace the reader may not see.</param>
public sealed record TraceSpan(
    string Span, string? Parent, string Name, string Kind, string Status, string? Message, double Start, double Duration, string Workload, string? Namespace, string? Pod, double Weight, bool Foreign,
    IReadOnlyDictionary<string, string> Attributes, ExceptionView? Exception);

/// <summary>One trace.</summary>
public sealed record TraceView(string Trace, IReadOnlyList<TraceSpan> Spans);

/// <summary>Reads one trace for a person.</summary>
public sealed class ShowTrace(AskEnquiry ask)
{
    /// <summary>Does it.</summary>
    public async Task<Outcome<TraceView>> Run(string trace, string? cluster, AccessScope scope, CancellationToken stop)
    {
        if (TraceId.Parse(trace) is not { IsEmpty: false } id)
            return new Problem(400, "This is not a trace id.", "A trace id has 32 hexadecimal digits.");
        var spans = await ask.RowsFor(scope, cluster).Trace(id, stop);
        bool Sees(Span span) => scope.Sees(span.Resource["k8s.cluster.name"] ?? "", span.Resource["k8s.namespace.name"]);
        if (!spans.Any(Sees))
            return new Problem(404, "No such trace.", "None of its spans has arrived that you may see, or they are older than the retention.");
        return new TraceView(trace, [.. spans.DistinctBy(span => span.Id).Select(span => Sees(span) ? Whole(span) : Masked(span))]);
    }

    private static TraceSpan Whole(Span span) => new(
        TraceId.SpanText(span.Id), span.Parent == 0 ? null : TraceId.SpanText(span.Parent), span.Name, span.Kind.ToString().ToLowerInvariant(), span.Status.ToString().ToLowerInvariant(),
        span["message"].AsText is { Length: > 0 } message ? message : null, span.Start / 1e6, span.Duration / 1e9,
        FieldNames.Value(span.Resource, "workload") ?? FieldNames.Value(span.Resource, "service") ?? "unnamed", FieldNames.Value(span.Resource, "namespace"), FieldNames.Value(span.Resource, "pod"), span.Weight, false,
        span.Attributes.ToDictionary(pair => pair.Key, pair => pair.Value),
        span.Exception is { } noted ? new ExceptionView(noted.Attributes["exception.type"], noted.Attributes["exception.message"], noted.Attributes["exception.stacktrace"]) : null);

    private static TraceSpan Masked(Span span) => new(
        TraceId.SpanText(span.Id), span.Parent == 0 ? null : TraceId.SpanText(span.Parent), "in a namespace you may not see", "", "", null, span.Start / 1e6, span.Duration / 1e9,
        "in a namespace you may not see", null, null, span.Weight, true, new Dictionary<string, string>(), null);
}
