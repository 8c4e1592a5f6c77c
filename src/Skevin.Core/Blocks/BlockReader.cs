using System.Text;
using Skevin.Core.Series;

namespace Skevin.Core.Blocks;

/// <summary>Reads what <see cref="BlockWriter"/> wrote. Bytes that are none are a <see cref="FormatException"/>, never anything else.</summary>
public sealed class BlockReader
{
    /// <summary>Largest inside of a block; a damaged length must not take all memory.</summary>
    public const int LongestInside = 512 << 20;

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
    {
        if (block.Length == 0 || block[0] != version)
            throw new FormatException("The block has an unknown version.");
        try
        {
            using var decompressor = new ZstdSharp.Decompressor();
            if (ZstdSharp.Decompressor.GetDecompressedSize(block[1..]) > LongestInside)
                throw new FormatException("The block is larger than a block may be.");
            _bytes = decompressor.Unwrap(block[1..], LongestInside).ToArray();
        }
        catch (Exception broken) when (broken is ZstdSharp.ZstdException or OutOfMemoryException or ArgumentException or OverflowException)
        {
            throw new FormatException("The block cannot be unpacked: " + broken.Message, broken);
        }
        _end = _bytes.Length;
        _texts = new string[Count()];
        for (var i = 0; i < _texts.Length; i++)
            _texts[i] = Inline();
        _labels = new Labels[Count()];
        for (var i = 0; i < _labels.Length; i++)
        {
            var pairs = new KeyValuePair<string, string>[Count()];
            for (var j = 0; j < pairs.Length; j++)
                pairs[j] = new(Text(), Text());
            _labels[i] = Core.Series.Labels.From(pairs);
        }
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
