using System.Buffers.Binary;
using System.Text;
using Skevin.Core.Series;

namespace Skevin.Core.Blocks;

/// <summary>Numbers and texts one behind the other: the inside of a column.</summary>
public sealed class ColumnBytes
{
    private byte[] _bytes = new byte[256];
    private int _length;

    /// <summary>Length so far.</summary>
    public long Length => _length;

    /// <summary>A number of 7 bits a byte, lowest first.</summary>
    public void Unsigned(ulong value)
    {
        var room = Room(10);
        var at = 0;
        for (; value >= 0x80; value >>= 7)
            room[at++] = (byte)(value | 0x80);
        room[at++] = (byte)value;
        _length += at;
    }

    /// <summary>A number that may be negative, folded so that small ones stay short.</summary>
    public void Signed(long value) => Unsigned((ulong)((value << 1) ^ (value >> 63)));

    /// <summary>Eight bytes as they are.</summary>
    public void Fixed(ulong value)
    {
        BinaryPrimitives.WriteUInt64LittleEndian(Room(8), value);
        _length += 8;
    }

    /// <summary>Bytes as they are.</summary>
    public void Raw(ReadOnlySpan<byte> bytes)
    {
        bytes.CopyTo(Room(bytes.Length));
        _length += bytes.Length;
    }

    /// <summary>A text with its length.</summary>
    public void Text(string text)
    {
        Unsigned((ulong)Encoding.UTF8.GetByteCount(text));
        Utf8(text);
    }

    /// <summary>A text without its length.</summary>
    public void Utf8(string text) => _length += Encoding.UTF8.GetBytes(text, Room(Encoding.UTF8.GetMaxByteCount(text.Length)));

    /// <summary>What was written, until more is.</summary>
    internal ReadOnlySpan<byte> Written => _bytes.AsSpan(0, _length);

    internal byte[] ToArray() => Written.ToArray();

    private Span<byte> Room(int more)
    {
        if (_bytes.Length - _length < more)
            Array.Resize(ref _bytes, Math.Max(_bytes.Length * 2, _length + more));
        return _bytes.AsSpan(_length);
    }
}

/// <summary>
/// Writes a block of columns, each compressed on its own, so that a reader unpacks only those it looks at. Layout: version, count of rows,
/// count of columns; of each its name and packed length; then the packed columns.
/// </summary>
public sealed class ColumnWriter(int rows)
{
    private readonly List<(string Name, byte[] Packed)> _columns = [];

    /// <summary>Adds a column; one without bytes is left out.</summary>
    public void Add(string name, ColumnBytes bytes) => Add(name, bytes.Written);

    /// <inheritdoc cref="Add(string, ColumnBytes)"/>
    public void Add(string name, ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length > 0)
            _columns.Add((name, Packing.Pack(bytes)));
    }

    /// <summary>Numbers, one a row.</summary>
    public void Add(string name, IEnumerable<ulong> numbers)
    {
        var bytes = new ColumnBytes();
        foreach (var number in numbers)
            bytes.Unsigned(number);
        Add(name, bytes);
    }

    /// <summary>Numbers that grow, one a row: each as its distance from the one before.</summary>
    public void AddDistances(string name, IEnumerable<long> numbers)
    {
        var (bytes, before) = (new ColumnBytes(), 0L);
        foreach (var number in numbers)
        {
            bytes.Signed(number - before);
            before = number;
        }
        Add(name, bytes);
    }

    /// <summary>Texts: each distinct one once where they repeat, else one behind the other.</summary>
    public void AddTexts(string name, IReadOnlyCollection<string> texts)
    {
        var bytes = new ColumnBytes();
        var distinct = new Dictionary<string, int>(StringComparer.Ordinal);
        foreach (var text in texts)
        {
            distinct.TryAdd(text, distinct.Count);
            if (distinct.Count > texts.Count / 2)
                break;
        }
        if (distinct.Count <= texts.Count / 2)
        {
            bytes.Unsigned((ulong)distinct.Count + 1);
            foreach (var text in distinct.Keys)
                bytes.Text(text);
            foreach (var text in texts)
                bytes.Unsigned((ulong)distinct[text]);
        }
        else
        {
            bytes.Unsigned(0);
            foreach (var text in texts)
                bytes.Unsigned((ulong)Encoding.UTF8.GetByteCount(text));
            foreach (var text in texts)
                bytes.Utf8(text);
        }
        Add(name, bytes);
    }

    /// <summary>Sets of attributes that repeat: each distinct one once.</summary>
    public void AddSets(string name, IReadOnlyCollection<Labels> sets)
    {
        var bytes = new ColumnBytes();
        var distinct = new Dictionary<Labels, int>();
        foreach (var set in sets)
            distinct.TryAdd(set, distinct.Count);
        bytes.Unsigned((ulong)distinct.Count);
        foreach (var set in distinct.Keys)
        {
            bytes.Unsigned((ulong)set.Count);
            foreach (var (key, value) in set)
            {
                bytes.Text(key);
                bytes.Text(value);
            }
        }
        foreach (var set in sets)
            bytes.Unsigned((ulong)distinct[set]);
        Add(name, bytes);
    }

    /// <summary>Sets of attributes whose values differ from row to row: which keys a row has, and a column of values for each key.</summary>
    public void AddAttributes(IReadOnlyList<Labels> sets)
    {
        if (sets.All(set => set.Count == 0))
            return;
        var shapes = new Dictionary<string, (int Number, string[] Keys)>(StringComparer.Ordinal);
        var values = new SortedDictionary<string, List<string>>(StringComparer.Ordinal);
        var numbers = new ColumnBytes();
        foreach (var set in sets)
        {
            var shape = string.Concat(set.Select(pair => $"{pair.Key.Length}:{pair.Key}"));
            if (!shapes.TryGetValue(shape, out var known))
                shapes[shape] = known = (shapes.Count, [.. set.Select(pair => pair.Key)]);
            numbers.Unsigned((ulong)known.Number);
            foreach (var (key, value) in set)
            {
                if (!values.TryGetValue(key, out var column))
                    values[key] = column = [];
                column.Add(value);
            }
        }
        var bytes = new ColumnBytes();
        bytes.Unsigned((ulong)shapes.Count);
        foreach (var (_, keys) in shapes.Values)
        {
            bytes.Unsigned((ulong)keys.Length);
            foreach (var key in keys)
                bytes.Text(key);
        }
        bytes.Raw(numbers.Written);
        Add("keys", bytes);
        foreach (var (key, column) in values)
            AddTexts("@" + key, column);
    }

    /// <summary>The finished block.</summary>
    public byte[] Finish(byte version)
    {
        var head = new ColumnBytes();
        head.Raw([version]);
        head.Unsigned((ulong)rows);
        head.Unsigned((ulong)_columns.Count);
        foreach (var (name, packed) in _columns)
        {
            head.Text(name);
            head.Unsigned((ulong)packed.Length);
        }
        foreach (var (_, packed) in _columns)
            head.Raw(packed);
        return head.ToArray();
    }
}
