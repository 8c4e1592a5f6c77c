using Skevin.Core.Blocks;

namespace Skevin.Core.Series;

/// <summary>A sample with the number of its series.</summary>
public readonly record struct SeriesSample(long Series, Sample Sample);

/// <summary>
/// The compact form of a batch as it is committed: the durable log of the head, quick to write. Version byte, then compressed with zstd: count of runs; of each the
/// distance of its series' number from the one before, count, times as differences of differences, starts, and values as they are (IEEE 754 bits). Folding makes
/// smaller chunks of batches.
/// </summary>
public static class SampleBatch
{
    private const byte Version = 2;
    private static readonly byte[] Zstd = [0x28, 0xb5, 0x2f, 0xfd];

    /// <summary>Encodes runs.</summary>
    public static byte[] Encode(IReadOnlyCollection<SeriesRun> runs)
    {
        var bytes = new ColumnBytes();
        bytes.Unsigned((ulong)runs.Count);
        var series = 0L;
        foreach (var run in runs)
        {
            bytes.Signed(run.Series - series);
            series = run.Series;
            bytes.Unsigned((ulong)run.Samples.Count);
            SampleChunk.Times(bytes, run.Samples);
            SampleChunk.Starts(bytes, run.Samples);
            foreach (var sample in run.Samples)
                bytes.Fixed(BitConverter.DoubleToUInt64Bits(sample.Value));
        }
        return [Version, .. Packing.PackQuickly(bytes.Written)];
    }

    /// <summary>Decodes what <see cref="Encode"/> wrote.</summary>
    /// <exception cref="FormatException">The bytes are not a batch of a known version or are cut short.</exception>
    public static List<SeriesSample> Decode(ReadOnlySpan<byte> bytes)
    {
        if (bytes.StartsWith(Zstd))
            return Columns(Packing.Unpack(bytes));
        if (bytes.Length == 0 || bytes[0] != Version)
            throw new FormatException("The sample batch has an unknown version.");
        var reader = new ByteReader(Packing.Unpack(bytes[1..]));
        var samples = new List<SeriesSample>();
        var series = 0L;
        for (var left = reader.Count(reader.Unsigned()); left > 0; left--)
        {
            series += reader.Signed();
            var times = SampleChunk.Times(reader, reader.Count(reader.Unsigned()));
            var starts = SampleChunk.Starts(reader, times.Length);
            for (var i = 0; i < times.Length; i++)
                samples.Add(new SeriesSample(series, new Sample(times[i], BitConverter.UInt64BitsToDouble(reader.Fixed()), starts is null ? 0 : starts[i])));
        }
        return samples;
    }

    // The first version: packed as a whole, with columns of 8 bytes for series, time, start and value behind 0x01 and the count.
    private static List<SeriesSample> Columns(byte[] raw)
    {
        const int head = 5, row = 32;
        var count = raw.Length < head || raw[0] != 1 ? -1 : BitConverter.ToInt32(raw, 1);
        if (count < 0 || raw.Length != head + (long)count * row)
            throw ByteReader.Damaged();
        var samples = new List<SeriesSample>(count);
        for (var i = 0; i < count; i++)
        {
            long Column(int number) => BitConverter.ToInt64(raw, head + (number * count + i) * 8);
            samples.Add(new SeriesSample(Column(0), new Sample(Column(1), BitConverter.Int64BitsToDouble(Column(3)), Column(2))));
        }
        return samples;
    }
}
