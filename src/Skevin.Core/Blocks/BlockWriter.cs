using Skevin.Core.Series;

namespace Skevin.Core.Blocks;

/// <summary>Writes the inside of a block: numbers of variable length, texts once each, sets of attributes once each; then zstd over all.</summary>
public sealed class BlockWriter
{
    private readonly ColumnBytes _body = new();
    private readonly Dictionary<string, int> _texts = new(StringComparer.Ordinal);
    private readonly List<string> _textList = [];
    private readonly Dictionary<Labels, int> _labels = [];
    private readonly List<Labels> _labelList = [];

    /// <summary>A number of 7 bits a byte, lowest first.</summary>
    public void Unsigned(ulong value) => _body.Unsigned(value);

    /// <summary>A number that may be negative, folded so that small ones stay short.</summary>
    public void Signed(long value) => _body.Signed(value);

    /// <summary>The 64 bits of a number.</summary>
    public void Double(double value) => _body.Fixed(BitConverter.DoubleToUInt64Bits(value));

    /// <summary>Eight bytes as they are.</summary>
    public void Fixed(ulong value) => _body.Fixed(value);

    /// <summary>Bytes with their count.</summary>
    public void Bytes(ReadOnlySpan<byte> bytes)
    {
        Unsigned((ulong)bytes.Length);
        _body.Raw(bytes);
    }

    /// <summary>A text that is likely to be unlike all others.</summary>
    public void Inline(string text) => _body.Text(text);

    /// <summary>A text that is likely to come again.</summary>
    public void Text(string text) => Unsigned((ulong)NumberOf(text));

    /// <summary>A set of attributes that is likely to come again.</summary>
    public void Labels(Labels labels)
    {
        if (!_labels.TryGetValue(labels, out var number))
        {
            _labels[labels] = number = _labelList.Count;
            _labelList.Add(labels);
        }
        Unsigned((ulong)number);
    }

    /// <summary>Attributes whose texts are likely to come again, though together they are not.</summary>
    public void Pairs(Labels attributes)
    {
        Unsigned((ulong)attributes.Count);
        foreach (var (name, value) in attributes)
        {
            Text(name);
            Text(value);
        }
    }

    /// <summary>The finished block.</summary>
    /// <param name="version">First byte of the block, outside the compression.</param>
    public byte[] Finish(byte version) => [version, .. Packing.Pack(Inside())];

    /// <summary>What is inside of the block, uncompressed.</summary>
    internal byte[] Inside()
    {
        // Attributes are written as texts, so their texts must be known first.
        var labels = new ColumnBytes();
        labels.Unsigned((ulong)_labelList.Count);
        foreach (var set in _labelList)
        {
            labels.Unsigned((ulong)set.Count);
            foreach (var (name, value) in set)
            {
                labels.Unsigned((ulong)NumberOf(name));
                labels.Unsigned((ulong)NumberOf(value));
            }
        }
        var whole = new ColumnBytes();
        whole.Unsigned((ulong)_textList.Count);
        foreach (var text in _textList)
            whole.Text(text);
        whole.Raw(labels.Written);
        whole.Raw(_body.Written);
        return whole.ToArray();
    }

    private int NumberOf(string text)
    {
        if (!_texts.TryGetValue(text, out var number))
        {
            _texts[text] = number = _textList.Count;
            _textList.Add(text);
        }
        return number;
    }
}
