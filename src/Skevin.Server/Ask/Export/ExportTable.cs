using Skevin.Core.Query.Run;

namespace Skevin.Server.Ask.Export;

/// <summary>A column of an answer that is written to a file.</summary>
/// <param name="Unit">UCUM unit; empty for text, <c>time</c> for epoch milliseconds.</param>
/// <param name="Label">Whether it is a label of a series.</param>
internal sealed record ExportColumn(string Name, string Unit, bool Label = false);

/// <summary>A whole answer as rows, of whatever shape it is.</summary>
/// <param name="Series">Whether a row is the value of a series in a slot.</param>
internal sealed record ExportTable(IReadOnlyList<ExportColumn> Columns, IAsyncEnumerable<IReadOnlyList<object?[]>> Batches, bool Series = false)
{
    private const int BatchRows = 4096;

    /// <summary>Rows that are given on as they are read.</summary>
    public static ExportTable Of(RowStream stream) => new([.. stream.Columns.Select(column => new ExportColumn(column.Name, column.Unit))], stream.Batches);

    /// <summary>An answer that is there already: its rows, or one row a series and slot with the labels in columns.</summary>
    public static ExportTable Of(Answer answer)
    {
        if (answer.Rows is { } table)
            return new([.. table.Columns.Select((column, i) => new ExportColumn(column.Name, column.Unit.Length == 0 && table.Rows.Any(row => row[i] is double) && table.Rows.All(row => row[i] is not string) ? "1" : column.Unit))],
                Batched(table.Rows));
        var names = answer.Series.SelectMany(series => series.Labels.Select(pair => pair.Key)).Distinct().Order(StringComparer.Ordinal).ToArray();
        return new([new("time", "time"), .. names.Select(name => new ExportColumn(name, "", Label: true)), new("value", answer.Unit.Length == 0 ? "1" : answer.Unit)],
            Batched(answer.Series.SelectMany(series => series.Values.Select((value, slot) => (object?[])
                [(double)(answer.FirstEnd + slot * (long)answer.Every.TotalMilliseconds), .. names.Select(name => series.Labels[name]), double.IsFinite(value) ? value : null]))), Series: true);
    }

    private static async IAsyncEnumerable<IReadOnlyList<object?[]>> Batched(IEnumerable<object?[]> rows)
    {
        foreach (var some in rows.Chunk(BatchRows))
        {
            await Task.CompletedTask;
            yield return some;
        }
    }
}
