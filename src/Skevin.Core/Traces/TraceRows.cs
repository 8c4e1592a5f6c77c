using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Traces;

/// <summary>Spans summed up: one row a trace, or one row for each pair that calls.</summary>
public static class TraceRows
{
    /// <summary>Columns of <c>traces</c>.</summary>
    public static readonly AnswerColumn[] TraceColumns = [new("time", "time"), new("trace", ""), new("root", ""), new("service", ""), new("duration", "s"), new("spans", "{span}"), new("errors", "{error}")];

    /// <summary>Columns of <c>graph</c>.</summary>
    public static readonly AnswerColumn[] GraphColumns =
    [
        new("source", ""), new("source.namespace", ""), new("destination", ""), new("destination.namespace", ""), new("rate", "{call}/s"), new("errors", "{call}/s"), new("dropped", "{call}/s"), new("reason", ""),
        new("p95", "s"), new("bytes", "By"),
    ];

    /// <summary>One row a trace, the newest first. The root is the span without a parent, or the earliest.</summary>
    public static IReadOnlyList<IRow> Traces(IEnumerable<Span> spans) =>
    [
        .. spans.GroupBy(span => span.Trace).Select(trace =>
        {
            var root = trace.Where(span => span.Parent == 0).MinBy(span => span.Start) ?? trace.MinBy(span => span.Start)!;
            var (from, to) = (trace.Min(span => span.Start), trace.Max(span => span.Start + span.Duration));
            return (IRow)new MadeRow(new Dictionary<string, FieldValue>
            {
                ["time"] = FieldValue.Of(IRow.Stamp(from)),
                ["trace"] = FieldValue.Of(trace.Key.ToString()),
                ["root"] = FieldValue.Of(root.Name),
                ["service"] = FieldValue.Of(WorkloadOf(root)),
                ["duration"] = FieldValue.Of((to - from) / 1e9),
                ["spans"] = FieldValue.Of(trace.Count()),
                ["errors"] = FieldValue.Of(trace.Count(span => span.Status == SpanStatus.Error)),
            }, IRow.Stamp(from));
        }).OrderByDescending(row => row.Milliseconds).ThenBy(row => row["trace"].Text, StringComparer.Ordinal),
    ];

    /// <summary>
    /// Who calls whom. A call is the span that answered it, its caller the span above it; a call nobody here answered is the caller's own
    /// span, its destination what that span names (<c>peer.service</c>, <c>server.address</c>).
    /// </summary>
    /// <param name="all">All spans, to find callers in.</param>
    /// <param name="asked">The spans whose calls are counted.</param>
    /// <param name="seconds">Length of the window.</param>
    public static IReadOnlyList<IRow> Graph(IReadOnlyList<Span> all, IEnumerable<Span> asked, double seconds)
    {
        var byId = new Dictionary<(TraceId, ulong), Span>();
        var answered = new HashSet<(TraceId, ulong)>();
        foreach (var span in all)
        {
            byId[(span.Trace, span.Id)] = span;
            if (span.Kind is SpanKind.Server or SpanKind.Consumer && span.Parent != 0)
                answered.Add((span.Trace, span.Parent));
        }
        var edges = new Dictionary<(string, string, string, string), (double Calls, double Errors, List<(double, double)> Times)>();
        foreach (var span in asked)
        {
            (string Name, string Space) from, to;
            if (span.Kind is SpanKind.Server or SpanKind.Consumer)
            {
                from = byId.TryGetValue((span.Trace, span.Parent), out var caller) ? End(caller) : ("outside", "");
                to = End(span);
            }
            else if (span.Kind is SpanKind.Client or SpanKind.Producer && !answered.Contains((span.Trace, span.Id)))
            {
                from = End(span);
                to = (span.Attributes["peer.service"] ?? span.Attributes["server.address"] ?? "outside", "");
            }
            else
            {
                continue;
            }
            var key = (from.Name, from.Space, to.Name, to.Space);
            var (calls, errors, times) = edges.GetValueOrDefault(key, (0, 0, []));
            times.Add((span.Duration / 1e9, span.Weight));
            edges[key] = (calls + span.Weight, errors + (span.Status == SpanStatus.Error ? span.Weight : 0), times);
        }
        return
        [
            .. edges.OrderByDescending(edge => edge.Value.Calls).ThenBy(edge => edge.Key.Item1, StringComparer.Ordinal).ThenBy(edge => edge.Key.Item3, StringComparer.Ordinal).Select(edge => (IRow)new MadeRow(new Dictionary<string, FieldValue>
            {
                ["source"] = FieldValue.Of(edge.Key.Item1),
                ["source.namespace"] = FieldValue.Of(edge.Key.Item2.Length == 0 ? null : edge.Key.Item2),
                ["destination"] = FieldValue.Of(edge.Key.Item3),
                ["destination.namespace"] = FieldValue.Of(edge.Key.Item4.Length == 0 ? null : edge.Key.Item4),
                ["rate"] = FieldValue.Of(edge.Value.Calls / seconds),
                ["errors"] = FieldValue.Of(edge.Value.Errors / seconds),
                ["p95"] = FieldValue.Of(Quantiles.Exact(edge.Value.Times, 0.95)),
            }, 0)),
        ];
    }

    private static (string, string) End(Span span) => (WorkloadOf(span), FieldNames.Value(span.Resource, "namespace") ?? "");

    private static string WorkloadOf(Span span) => FieldNames.Value(span.Resource, "workload") ?? FieldNames.Value(span.Resource, "service") ?? "unnamed";
}
