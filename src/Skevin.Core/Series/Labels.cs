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
        var map = new SortedDictionary<string, string>(StringComparer.Ordinal);
        foreach (var (name, value) in pairs)
            map[name] = value;
        return new Labels([.. map.Where(pair => pair.Value.Length > 0)]);
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
    public bool Equals(Labels? other) =>
        other is not null && _hash == other._hash && _pairs.AsSpan().SequenceEqual(other._pairs);

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
