using System.Buffers.Binary;

namespace Skevin.Core.Series;

/// <summary>A sample with the number of its series.</summary>
public readonly record struct SeriesSample(long Series, Sample Sample);

/// <summary>
/// The compact form of a batch as it is committed: the durable log of the head. Little-endian: version byte, count (int32),
/// then columns of series (int64), times (int64), starts (int64) and values (IEEE 754 bits), the whole compressed with zstd.
/// The chunk codec takes its place when batches are folded.
/// </summary>
public static class SampleBatch
{
    private const byte Version = 1;
    private const int RowSize = 32;

    /// <summary>Encodes samples in the order given.</summary>
    public static byte[] Encode(IReadOnlyList<SeriesSample> samples)
    {
        var count = samples.Count;
        var raw = new byte[5 + count * RowSize];
        raw[0] = Version;
        BinaryPrimitives.WriteInt32LittleEndian(raw.AsSpan(1), count);
        var column = count * 8;
        for (var i = 0; i < count; i++)
        {
            var (series, sample) = samples[i];
            var at = raw.AsSpan(5 + i * 8);
            BinaryPrimitives.WriteInt64LittleEndian(at, series);
            BinaryPrimitives.WriteInt64LittleEndian(at[column..], sample.Time);
            BinaryPrimitives.WriteInt64LittleEndian(at[(2 * column)..], sample.Start);
            BinaryPrimitives.WriteInt64LittleEndian(at[(3 * column)..], BitConverter.DoubleToInt64Bits(sample.Value));
        }
        using var compressor = new ZstdSharp.Compressor(3);
        return compressor.Wrap(raw).ToArray();
    }

    /// <summary>Decodes what <see cref="Encode"/> wrote.</summary>
    /// <exception cref="FormatException">The bytes are not a batch of a known version or are cut short.</exception>
    public static List<SeriesSample> Decode(ReadOnlySpan<byte> bytes)
    {
        byte[] raw;
        try
        {
            using var decompressor = new ZstdSharp.Decompressor();
            raw = decompressor.Unwrap(bytes).ToArray();
        }
        catch (ZstdSharp.ZstdException broken)
        {
            throw new FormatException("The sample batch is not readable: " + broken.Message, broken);
        }
        if (raw.Length < 5 || raw[0] != Version)
            throw new FormatException("The sample batch has an unknown version.");
        var count = BinaryPrimitives.ReadInt32LittleEndian(raw.AsSpan(1));
        if (count < 0 || raw.Length != 5L + (long)count * RowSize)
            throw new FormatException("The sample batch is cut short.");
        var samples = new List<SeriesSample>(count);
        var column = count * 8;
        for (var i = 0; i < count; i++)
        {
            var at = raw.AsSpan(5 + i * 8);
            samples.Add(new SeriesSample(
                BinaryPrimitives.ReadInt64LittleEndian(at),
                new Sample(
                    BinaryPrimitives.ReadInt64LittleEndian(at[column..]),
                    BitConverter.Int64BitsToDouble(BinaryPrimitives.ReadInt64LittleEndian(at[(3 * column)..])),
                    BinaryPrimitives.ReadInt64LittleEndian(at[(2 * column)..]))));
        }
        return samples;
    }
}
