using System.Collections;
using System.Text;
using Skevin.Core.Series;

namespace Skevin.Core.Blocks;

/// <summary>Texts of a column.</summary>
public sealed class TextColumn
{
    private readonly string[] _distinct = [];
    private readonly int[] _numbers = [];
    private readonly byte[] _bytes = [];

    internal TextColumn(ByteReader reader)
    {
        if (reader.Unsigned() is var mode && mode > 0)
        {
            _distinct = new string[reader.Count(mode - 1)];
            for (var i = 0; i < _distinct.Length; i++)
                _distinct[i] = reader.Text();
            var numbers = new List<int>();
            while (!reader.AtEnd)
                numbers.Add(reader.Below(_distinct.Length));
            _numbers = [.. numbers];
            Count = _numbers.Length;
        }
        else
        {
            // Lengths first, then the bytes they measure: where they add up to what is left, the lengths are complete.
            var ends = new List<int>();
            var end = 0L;
            while (end < reader.Left)
            {
                end += (long)Math.Min(reader.Unsigned(), int.MaxValue);
                ends.Add((int)Math.Min(end, int.MaxValue));
            }
            if (end != reader.Left)
                throw ByteReader.Damaged();
            _bytes = reader.Rest();
            _numbers = [.. ends];
            Count = ends.Count;
        }
    }

    /// <summary>How many.</summary>
    public int Count { get; }

    /// <summary>One of them.</summary>
    public string this[int at] => _distinct.Length > 0 ? _distinct[_numbers[at]] : Encoding.UTF8.GetString(_bytes, at == 0 ? 0 : _numbers[at - 1], _numbers[at] - (at == 0 ? 0 : _numbers[at - 1]));

    /// <summary>Which texts have some ASCII in them, whatever its case; found in their bytes, before a text is made of these.</summary>
    /// <param name="lower">In lower case, not empty.</param>
    public BitArray Having(string lower)
    {
        var having = new BitArray(Count);
        if (_distinct.Length > 0)
        {
            var ofDistinct = _distinct.Select(text => text.Contains(lower, StringComparison.OrdinalIgnoreCase)).ToArray();
            for (var i = 0; i < Count; i++)
                having[i] = ofDistinct[_numbers[i]];
            return having;
        }
        var word = Encoding.ASCII.GetBytes(lower);
        // Looked for by its rarest letter.
        var pivot = Enumerable.Range(0, word.Length).MaxBy(i => Frequent.IndexOf((char)word[i]));
        var (one, other) = (word[pivot], (byte)char.ToUpperInvariant((char)word[pivot]));
        for (var at = pivot; at < _bytes.Length;)
        {
            var next = _bytes.AsSpan(at).IndexOfAny(one, other);
            if (next < 0)
                break;
            at += next;
            var from = at - pivot;
            if (from + word.Length > _bytes.Length || !Ascii.EqualsIgnoreCase(_bytes.AsSpan(from, word.Length), word))
            {
                at++;
                continue;
            }
            var row = Array.BinarySearch(_numbers, from);
            // The first text that ends behind its first byte; an empty one ends where the one before does.
            for (row = row < 0 ? ~row : row; _numbers[row] <= from; row++)
            {
            }
            if (from + word.Length <= _numbers[row])
            {
                having[row] = true;
                at = Math.Max(at + 1, _numbers[row] + pivot);
            }
            else
            {
                at++;
            }
        }
        return having;
    }

    // Letters and digits as often as they stand in English and in lines, the most frequent first (common practice).
    private const string Frequent = "etaoinsrhldcumfpgwyb0123456789vkxjqz";

    internal void Need(int count)
    {
        if (Count < count)
            throw ByteReader.Damaged();
    }
}

/// <summary>Reads what <see cref="ColumnWriter"/> wrote, each column when it is first looked at. Bytes that are none are a <see cref="FormatException"/>.</summary>
public sealed class ColumnReader
{
    private const int MostRows = 1 << 24;

    private readonly byte[] _block;
    private readonly Dictionary<string, (int From, int Length)> _columns = new(StringComparer.Ordinal);
    private readonly Dictionary<string, int[]> _ranks = new(StringComparer.Ordinal);
    private readonly Dictionary<string, TextColumn> _texts = new(StringComparer.Ordinal);
    private readonly Dictionary<string, (Labels[] Sets, int[] Numbers)> _sets = new(StringComparer.Ordinal);
    private (string[][] Shapes, int[] Numbers)? _shapes;

    /// <summary>Opens a block.</summary>
    /// <exception cref="FormatException">Not a block of this version, or damaged.</exception>
    public ColumnReader(byte[] block, byte version)
    {
        var reader = new ByteReader(block);
        if (block.Length == 0 || reader.Byte() != version)
            throw new FormatException("The block has an unknown version.");
        var rows = reader.Unsigned();
        Rows = rows <= MostRows ? (int)rows : throw ByteReader.Damaged();
        _block = block;
        var lengths = new (string Name, int Length)[reader.Count(reader.Unsigned())];
        for (var i = 0; i < lengths.Length; i++)
            lengths[i] = (reader.Text(), reader.Count(reader.Unsigned()));
        var from = block.Length - reader.Left;
        foreach (var (name, length) in lengths)
        {
            if (length > block.Length - from || !_columns.TryAdd(name, (from, length)))
                throw ByteReader.Damaged();
            from += length;
        }
    }

    /// <summary>How many rows.</summary>
    public int Rows { get; }

    /// <summary>Whether there is a column.</summary>
    public bool Has(string name) => _columns.ContainsKey(name);

    /// <summary>Attributes some row has.</summary>
    public IEnumerable<string> Keys => _columns.Keys.Where(name => name[0] == '@').Select(name => name[1..]);

    internal ByteReader Open(string name) => new(_columns.TryGetValue(name, out var place) ? Packing.Unpack(_block.AsSpan(place.From, place.Length)) : throw ByteReader.Damaged());

    /// <summary>Numbers, one a row; all zero where the column is left out.</summary>
    public ulong[] Numbers(string name)
    {
        var numbers = new ulong[Rows];
        if (!Has(name))
            return numbers;
        var reader = Open(name);
        for (var i = 0; i < numbers.Length; i++)
            numbers[i] = reader.Unsigned();
        return numbers;
    }

    /// <summary>Numbers that were written as distances, one a row.</summary>
    public long[] Distances(string name)
    {
        var (numbers, before) = (new long[Rows], 0L);
        if (Rows == 0)
            return numbers;
        var reader = Open(name);
        for (var i = 0; i < numbers.Length; i++)
            numbers[i] = before += reader.Signed();
        return numbers;
    }

    /// <summary>Texts, one a row; null where the column is left out, which stands for empty ones.</summary>
    public TextColumn? Texts(string name) => Has(name) ? Texts(name, Rows) : null;

    private TextColumn Texts(string name, int count)
    {
        if (!_texts.TryGetValue(name, out var texts))
        {
            texts = new TextColumn(Open(name));
            texts.Need(count);
            _texts[name] = texts;
        }
        return texts;
    }

    /// <summary>Sets of attributes that repeat, and which one each row has.</summary>
    public (Labels[] Sets, int[] Numbers) Sets(string name)
    {
        if (_sets.TryGetValue(name, out var known))
            return known;
        if (Rows == 0)
            return ([], []);
        var reader = Open(name);
        var sets = new Labels[reader.Count(reader.Unsigned())];
        for (var i = 0; i < sets.Length; i++)
        {
            var pairs = new KeyValuePair<string, string>[reader.Count(reader.Unsigned())];
            for (var j = 0; j < pairs.Length; j++)
                pairs[j] = new(reader.Text(), reader.Text());
            sets[i] = Labels.From(pairs);
        }
        var numbers = new int[Rows];
        for (var i = 0; i < numbers.Length; i++)
            numbers[i] = reader.Below(sets.Length);
        return _sets[name] = (sets, numbers);
    }

    /// <summary>The value of an attribute in a row, or null.</summary>
    public string? Attribute(string key, int row)
    {
        if (!_ranks.TryGetValue(key, out var ranks))
            _ranks[key] = ranks = Ranks(key);
        return ranks.Length > 0 && ranks[row] >= 0 ? _texts["@" + key][ranks[row]] : null;
    }

    /// <summary>All attributes of a row that differ from row to row.</summary>
    public Labels Attributes(int row)
    {
        var (shapes, numbers) = Shapes();
        return shapes.Length == 0 || shapes[numbers[row]].Length == 0 ? Labels.None : Labels.From(shapes[numbers[row]].Select(key => new KeyValuePair<string, string>(key, Attribute(key, row) ?? "")));
    }

    /// <summary>Names of the attributes of a row that differ from row to row.</summary>
    public IReadOnlyList<string> KeysOf(int row)
    {
        var (shapes, numbers) = Shapes();
        return shapes.Length == 0 ? [] : shapes[numbers[row]];
    }

    // At which place of a key's column each row's value stands; -1 where the row has none.
    private int[] Ranks(string key)
    {
        if (!Has("@" + key))
            return [];
        var (shapes, numbers) = Shapes();
        var has = shapes.Select(keys => keys.Contains(key)).ToArray();
        var (ranks, next) = (new int[Rows], 0);
        for (var row = 0; row < ranks.Length; row++)
            ranks[row] = has[numbers[row]] ? next++ : -1;
        Texts("@" + key, next);
        return ranks;
    }

    private (string[][] Shapes, int[] Numbers) Shapes()
    {
        if (_shapes is { } known)
            return known;
        if (!Has("keys"))
            return ([], []);
        var reader = Open("keys");
        var shapes = new string[reader.Count(reader.Unsigned())][];
        for (var i = 0; i < shapes.Length; i++)
        {
            shapes[i] = new string[reader.Count(reader.Unsigned())];
            for (var j = 0; j < shapes[i].Length; j++)
                shapes[i][j] = Has("@" + (shapes[i][j] = reader.Text())) ? shapes[i][j] : throw ByteReader.Damaged();
        }
        var numbers = new int[Rows];
        for (var i = 0; i < numbers.Length; i++)
            numbers[i] = reader.Below(shapes.Length);
        _shapes = (shapes, numbers);
        return _shapes.Value;
    }
}

/// <summary>Reads <see cref="ColumnBytes"/>.</summary>
internal sealed class ByteReader(byte[] bytes)
{
    private int _at;

    public bool AtEnd => _at == bytes.Length;

    public int Left => bytes.Length - _at;

    public byte Byte() => _at < bytes.Length ? bytes[_at++] : throw Damaged();

    public ulong Unsigned()
    {
        ulong value = 0;
        for (var shift = 0; shift < 64; shift += 7)
        {
            var next = Byte();
            value |= (ulong)(next & 0x7f) << shift;
            if (next < 0x80)
                return value;
        }
        throw Damaged();
    }

    public long Signed()
    {
        var value = Unsigned();
        return (long)(value >> 1) ^ -(long)(value & 1);
    }

    /// <summary>A number of things that each take at least a byte, so never more than bytes are left.</summary>
    public int Count(ulong count) => count <= (ulong)Left ? (int)count : throw Damaged();

    public int Below(int bound) => Unsigned() is var number && number < (ulong)bound ? (int)number : throw Damaged();

    public ulong Fixed() => BitConverter.ToUInt64(Take(8));

    public string Text() => Encoding.UTF8.GetString(Take(Count(Unsigned())));

    public byte[] Rest() => Take(Left).ToArray();

    public static FormatException Damaged() => new("The block is damaged or cut short.");

    public void Pass(int count) => Take(count);

    public ReadOnlySpan<byte> Take(int count)
    {
        if (count < 0 || count > Left)
            throw Damaged();
        _at += count;
        return bytes.AsSpan(_at - count, count);
    }
}
