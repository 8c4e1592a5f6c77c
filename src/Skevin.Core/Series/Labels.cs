using System.Collections;
using System.Text;

namespace Skevin.Core.Series;

/// <summary>Attributes of a series: names and values, sorted by name, each name once. Compared by content.</summary>
public sealed class Labels : IReadOnlyCollection<KeyValuePair<string, string>>, IEquatable<Labels>
{
    private readonly KeyValuePair<string, string>[] _pairs;
    private readonly int _hash;

    private Labels(KeyValuePair<string, string>[] sorted)
    {
        _pairs = sorted;
        var hash = new HashCode();
        foreach (var (name, value) in sorted)
        {
            hash.Add(name);
            hash.Add(value);
        }
        _hash = hash.ToHashCode();
    }

    /// <summary>No attributes.</summary>
    public static Labels None { get; } = new([]);

    /// <inheritdoc/>
    public int Count => _pairs.Length;

    /// <summary>The value of an attribute, or null where the series does not have it.</summary>
    public string? this[string name]
    {
        get
        {
            foreach (var pair in _pairs)
                if (pair.Key == name)
                    return pair.Value;
            return null;
        }
    }

    /// <summary>Sorts and keeps the last of equal names; an empty value is the same as an absent attribute.</summary>
    public static Labels From(IEnumerable<KeyValuePair<string, string>> pairs)
    {
        var given = pairs as KeyValuePair<string, string>[] ?? [.. pairs];
        if (InOrder(given))
            return given.Length == 0 ? None : new Labels(ReferenceEquals(given, pairs) ? [.. given] : given);
        var sorted = given.Select((pair, i) => (pair, i)).ToArray();
        Array.Sort(sorted, (a, b) => string.CompareOrdinal(a.pair.Key, b.pair.Key) is var order && order != 0 ? order : a.i.CompareTo(b.i));
        var kept = new List<KeyValuePair<string, string>>(sorted.Length);
        foreach (var (pair, _) in sorted)
            if (kept.Count > 0 && kept[^1].Key == pair.Key)
                kept[^1] = pair;
            else
                kept.Add(pair);
        kept.RemoveAll(pair => pair.Value.Length == 0);
        return kept.Count == 0 ? None : new Labels([.. kept]);
    }

    // The usual case: sorted already, each name once, no value empty.
    private static bool InOrder(KeyValuePair<string, string>[] pairs)
    {
        for (var i = 0; i < pairs.Length; i++)
            if (pairs[i].Value.Length == 0 || (i > 0 && string.CompareOrdinal(pairs[i - 1].Key, pairs[i].Key) >= 0))
                return false;
        return true;
    }

    /// <summary>Length-prefixed UTF-8 of all pairs: equal bytes mean equal labels.</summary>
    public byte[] Canonical()
    {
        using var buffer = new MemoryStream();
        using var writer = new BinaryWriter(buffer, Encoding.UTF8);
        foreach (var (name, value) in _pairs)
        {
            writer.Write(name);
            writer.Write(value);
        }
        writer.Flush();
        return buffer.ToArray();
    }

    /// <inheritdoc/>
    public bool Equals(Labels? other)
    {
        if (ReferenceEquals(this, other))
            return true;
        if (other is null || _hash != other._hash || _pairs.Length != other._pairs.Length)
            return false;
        // Pair by pair, because pairs compare themselves by reflection.
        for (var i = 0; i < _pairs.Length; i++)
            if (_pairs[i].Key != other._pairs[i].Key || _pairs[i].Value != other._pairs[i].Value)
                return false;
        return true;
    }

    /// <inheritdoc/>
    public override bool Equals(object? obj) => Equals(obj as Labels);

    /// <inheritdoc/>
    public override int GetHashCode() => _hash;

    /// <inheritdoc/>
    public IEnumerator<KeyValuePair<string, string>> GetEnumerator() => _pairs.AsEnumerable().GetEnumerator();

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();

    /// <inheritdoc/>
    public override string ToString() => string.Join(", ", _pairs.Select(pair => $"{pair.Key}={pair.Value}"));
}
