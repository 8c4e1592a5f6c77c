using Skevin.Core.Series;

namespace Skevin.Core.Blocks;

/// <summary>Reads what <see cref="BlockWriter"/> wrote. Bytes that are none are a <see cref="FormatException"/>, never anything else.</summary>
public sealed class BlockReader
{
    private readonly ByteReader _bytes;
    private readonly string[] _texts;
    private readonly Labels[] _labels;

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
        _bytes = new ByteReader(inside);
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
    public bool AtEnd => _bytes.AtEnd;

    /// <summary>A count of things that each take at least a byte, so never more than bytes are left.</summary>
    public int Count() => _bytes.Count(_bytes.Unsigned());

    /// <summary>See <see cref="BlockWriter.Unsigned(ulong)"/>.</summary>
    public ulong Unsigned() => _bytes.Unsigned();

    /// <summary>See <see cref="BlockWriter.Signed"/>.</summary>
    public long Signed() => _bytes.Signed();

    /// <summary>See <see cref="BlockWriter.Double"/>.</summary>
    public double Double() => BitConverter.UInt64BitsToDouble(_bytes.Fixed());

    /// <summary>See <see cref="BlockWriter.Fixed"/>.</summary>
    public ulong Fixed() => _bytes.Fixed();

    /// <summary>See <see cref="BlockWriter.Bytes"/>.</summary>
    public ReadOnlySpan<byte> Bytes() => _bytes.Take(Count());

    /// <summary>See <see cref="BlockWriter.Inline"/>.</summary>
    public string Inline() => _bytes.Text();

    /// <summary>See <see cref="BlockWriter.Text"/>.</summary>
    public string Text() => _texts[_bytes.Below(_texts.Length)];

    /// <summary>See <see cref="BlockWriter.Labels"/>.</summary>
    public Labels Labels() => _labels[_bytes.Below(_labels.Length)];
}
