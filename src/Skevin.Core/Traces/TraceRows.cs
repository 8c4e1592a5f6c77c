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

    private static string WorkloadOf(Span span) => WorkloadOf(span.Resource);

    internal static string WorkloadOf(Labels origin) => FieldNames.Value(origin, "workload") ?? FieldNames.Value(origin, "service") ?? "unnamed";
}
