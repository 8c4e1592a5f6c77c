using System.Text;
using Skevin.Core.Series;

namespace Skevin.Core.Blocks;

/// <summary>Reads what <see cref="BlockWriter"/> wrote. Bytes that are none are a <see cref="FormatException"/>, never anything else.</summary>
public sealed class BlockReader
{
    private readonly byte[] _bytes;
    private readonly int _end;
    private readonly string[] _texts;
    private readonly Labels[] _labels;
    private int _at;

    /// <summary>Opens a block.</summary>
    /// <param name="block">The whole block.</param>
    /// <param name="version">The version this reader knows.</param>
    /// <exception cref="FormatException">Not a block of this version, or damaged.</exception>
    public BlockReader(ReadOnlySpan<byte> block, byte version)
        : this(block.Length > 0 && block[0] == version ? Packing.Unpack(block[1..]) : throw new FormatException("The block has an unknown version."))
    {
    }

    /// <summary>Opens what <see cref="BlockWriter.Inside"/> wrote.</summary>
    /// <exception cref="FormatException">Damaged.</exception>
    internal BlockReader(byte[] inside)
    {
        _bytes = inside;
        _end = _bytes.Length;
        _texts = new string[Count()];
        for (var i = 0; i < _texts.Length; i++)
            _texts[i] = Inline();
        _labels = new Labels[Count()];
        for (var i = 0; i < _labels.Length; i++)
            _labels[i] = Pairs();
    }

    /// <summary>Attributes written by <see cref="BlockWriter.Pairs"/>.</summary>
    public Labels Pairs()
    {
        var pairs = new KeyValuePair<string, string>[Count()];
        for (var j = 0; j < pairs.Length; j++)
            pairs[j] = new(Text(), Text());
        return pairs.Length == 0 ? Core.Series.Labels.None : Core.Series.Labels.From(pairs);
    }

    /// <summary>Whether everything was read.</summary>
    public bool AtEnd => _at == _end;

    /// <summary>A count of things that each take at least a byte, so never more than bytes are left.</summary>
    public int Count()
    {
        var count = Unsigned();
        return count <= (ulong)(_end - _at) ? (int)count : throw Damaged();
    }

    /// <summary>See <see cref="BlockWriter.Unsigned(ulong)"/>.</summary>
    public ulong Unsigned()
    {
        ulong value = 0;
        for (var shift = 0; shift < 64; shift += 7)
        {
            if (_at >= _end)
                throw Damaged();
            var next = _bytes[_at++];
            value |= (ulong)(next & 0x7f) << shift;
            if (next < 0x80)
                return value;
        }
        throw Damaged();
    }

    /// <summary>See <see cref="BlockWriter.Signed"/>.</summary>
    public long Signed()
    {
        var value = Unsigned();
        return (long)(value >> 1) ^ -(long)(value & 1);
    }

    /// <summary>See <see cref="BlockWriter.Double"/>.</summary>
    public double Double() => BitConverter.ToDouble(Take(8));

    /// <summary>See <see cref="BlockWriter.Fixed"/>.</summary>
    public ulong Fixed() => BitConverter.ToUInt64(Take(8));

    /// <summary>See <see cref="BlockWriter.Bytes"/>.</summary>
    public ReadOnlySpan<byte> Bytes() => Take(Count());

    /// <summary>See <see cref="BlockWriter.Inline"/>.</summary>
    public string Inline() => Encoding.UTF8.GetString(Bytes());

    /// <summary>See <see cref="BlockWriter.Text"/>.</summary>
    public string Text() => Unsigned() is var number && number < (ulong)_texts.Length ? _texts[number] : throw Damaged();

    /// <summary>See <see cref="BlockWriter.Labels"/>.</summary>
    public Labels Labels() => Unsigned() is var number && number < (ulong)_labels.Length ? _labels[number] : throw Damaged();

    private ReadOnlySpan<byte> Take(int count)
    {
        if (count > _end - _at)
            throw Damaged();
        _at += count;
        return _bytes.AsSpan(_at - count, count);
    }

    private static FormatException Damaged() => new("The block is damaged or cut short.");
}
