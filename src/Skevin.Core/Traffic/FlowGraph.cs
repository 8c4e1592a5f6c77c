using Skevin.Core.Query.Run;

namespace Skevin.Core.Traffic;

/// <summary>Flows summed up to who talks to whom.</summary>
public static class FlowGraph
{
    /// <summary>Columns of <c>graph</c>.</summary>
    public static readonly AnswerColumn[] Columns =
    [
        new("source", ""), new("source.namespace", ""), new("destination", ""), new("destination.namespace", ""), new("rate", "{flow}/s"), new("errors", "{flow}/s"), new("dropped", "{flow}/s"), new("reason", ""),
        new("p95", "s"), new("bytes", "By"),
    ];

    /// <summary>One row for each pair, the busiest first. Errors are dropped flows and answers from 500.</summary>
    /// <param name="rows">Rows of flows.</param>
    /// <param name="addresses">Whether ends stand as raw addresses.</param>
    /// <param name="seconds">Length of the window.</param>
    public static IReadOnlyList<IRow> Of(IEnumerable<IRow> rows, bool addresses, double seconds) =>
    [
        .. rows.OfType<FlowRow>().GroupBy(row => addresses
                ? (row.Source.Address, row.Source.Namespace ?? "", row.Destination.Address, row.Destination.Namespace ?? "")
                : (row.Source.Name, row.Source.Namespace ?? "", row.Destination.Name, row.Destination.Namespace ?? ""))
            .Select(edge =>
            {
                var dropped = edge.Where(row => ForwardingStatus.IsDropped(row.Minute.Key.Status)).ToArray();
                var (flows, lost) = (edge.Sum(row => (double)row.Minute.Flows), dropped.Sum(row => (double)row.Minute.Flows));
                FieldValue Text(string text) => FieldValue.Of(text.Length == 0 ? null : text);
                return (edge.Key, Flows: flows, Row: (IRow)new MadeRow(new Dictionary<string, FieldValue>
                {
                    ["source"] = Text(edge.Key.Item1),
                    ["source.namespace"] = Text(edge.Key.Item2),
                    ["destination"] = Text(edge.Key.Item3),
                    ["destination.namespace"] = Text(edge.Key.Item4),
                    ["rate"] = FieldValue.Of(flows / seconds),
                    ["errors"] = FieldValue.Of((lost + edge.Sum(row => (double)row.Minute.Failed)) / seconds),
                    ["dropped"] = FieldValue.Of(lost / seconds),
                    ["reason"] = Text(dropped.MaxBy(row => row.Minute.Flows) is { } most ? ForwardingStatus.Reason(most.Minute.Key.Status) : ""),
                    ["bytes"] = FieldValue.Of(edge.Sum(row => (double)row.Minute.Bytes)),
                }, 0));
            }).OrderByDescending(edge => edge.Flows).ThenBy(edge => edge.Key.Item1, StringComparer.Ordinal).ThenBy(edge => edge.Key.Item3, StringComparer.Ordinal).Select(edge => edge.Row),
    ];
}
