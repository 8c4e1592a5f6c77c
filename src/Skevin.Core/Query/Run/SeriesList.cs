using System.Collections;
using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>Series that are asked of again and again: by the value of a field without looking at each. Not for several threads.</summary>
public sealed class SeriesList(IReadOnlyList<StoredSeries> series) : IReadOnlyList<StoredSeries>
{
    private readonly Dictionary<string, Dictionary<string, List<StoredSeries>>> _byField = [];

    /// <inheritdoc/>
    public int Count => series.Count;

    /// <inheritdoc/>
    public StoredSeries this[int index] => series[index];

    /// <summary>Those among which are all that fulfil a condition; all of them where it asks no field for a value.</summary>
    public IReadOnlyList<StoredSeries> Narrowed(Predicate predicate)
    {
        foreach (var part in Matching.Conjuncts(predicate))
            if (part is FieldPredicate { Comparison: Comparison.Equal, Values: [TextValue { Text: { Length: > 0 } text }] } field)
                return By(field.Field).TryGetValue(text, out var some) ? some : [];
        return this;
    }

    private Dictionary<string, List<StoredSeries>> By(string field)
    {
        if (_byField.TryGetValue(field, out var known))
            return known;
        var values = new Dictionary<string, List<StoredSeries>>(StringComparer.Ordinal);
        foreach (var one in series)
            if (FieldNames.Value(one.Key.Labels, field) is { } value)
            {
                if (!values.TryGetValue(value, out var some))
                    values[value] = some = [];
                some.Add(one);
            }
        return _byField[field] = values;
    }

    /// <inheritdoc/>
    public IEnumerator<StoredSeries> GetEnumerator() => series.GetEnumerator();

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}
