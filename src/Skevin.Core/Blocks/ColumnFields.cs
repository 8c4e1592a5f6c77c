using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Blocks;

/// <summary>Fields of the rows of a column block: found once for the whole block, then read row by row.</summary>
internal static class ColumnFields
{
    /// <summary>A field that is an attribute of the rows or of where they come from, as <see cref="FieldNames.Value"/> finds it.</summary>
    public static Func<int, FieldValue> Attribute(ColumnReader block, string field)
    {
        string[] names = [field, .. field == "workload" ? FieldNames.Workload : FieldNames.Short.TryGetValue(field, out var full) ? [full] : []];
        var own = names.Where(name => block.Has("@" + name)).ToArray();
        var (sets, numbers) = block.Sets("resource");
        var values = sets.Select(set => FieldValue.Of(FieldNames.Value(set, field))).ToArray();
        if (own.Length == 0)
            return row => values[numbers[row]];
        return row =>
        {
            foreach (var name in own)
                if (block.Attribute(name, row) is { } value)
                    return FieldValue.Of(value);
            return values[numbers[row]];
        };
    }

    /// <summary>Values of an enumeration, each text made once.</summary>
    public static Func<int, FieldValue> Words(int count, Func<int, FieldValue> word, Func<int, int> number)
    {
        var words = Enumerable.Range(0, count).Select(word).ToArray();
        return row => number(row) is var at && at < words.Length ? words[at] : FieldValue.Absent;
    }
}
