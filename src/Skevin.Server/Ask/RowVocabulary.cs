using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Storage.Blocks;

namespace Skevin.Server.Ask;

/// <summary>Fields and live values of rows, for completion.</summary>
public static class RowVocabulary
{
    private const int MostRows = 20_000;
    private const int MostValues = 100;
    // Of log lines a kind is their text without what varies: too many to list.
    private static readonly string[] Unlisted = ["time", "text", "trace", "span", "parent", "duration", "packets", "bytes", "flows"];

    /// <summary>Fields of the newest rows in a window with their values; those with more than can be listed have none.</summary>
    public static async Task<IReadOnlyList<FieldView>> Of(RowKind kind, RowReader reader, DateTimeOffset from, DateTimeOffset to, CancellationToken stop)
    {
        var values = RowFields.Of(kind).ToDictionary(field => field.Name, _ => new HashSet<string>(StringComparer.Ordinal));
        if (kind == RowKind.Logs)
            values["kind"] = new HashSet<string>(StringComparer.Ordinal);
        var count = 0;
        await foreach (var batch in reader.Rows(kind, from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds(), RowHints.None, stop))
        {
            foreach (var row in batch.Rows)
                foreach (var field in RowFields.Of(kind).Select(field => field.Name).Concat(row.Fields.Select(FieldNames.Shortest)))
                {
                    if (!values.TryGetValue(field, out var own))
                        values[field] = own = new HashSet<string>(StringComparer.Ordinal);
                    if (own.Count <= MostValues && !Unlisted.Contains(field) && !(kind == RowKind.Logs && field == "kind") && row[field].AsText is { Length: <= 200 } value)
                        own.Add(value);
                }
            if ((count += batch.Rows.Count) > MostRows)
                break;
        }
        return [.. values.OrderBy(pair => pair.Key, StringComparer.Ordinal).Select(pair => new FieldView(pair.Key, [.. pair.Value.Order(StringComparer.Ordinal).Take(MostValues)], pair.Value.Count))];
    }
}
