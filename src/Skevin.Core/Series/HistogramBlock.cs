using Skevin.Core.Blocks;

namespace Skevin.Core.Series;

/// <summary>A histogram with the number of its series.</summary>
public readonly record struct SeriesHistogram(long Series, HistogramSample Sample);

/// <summary>
/// Histograms of some series, ordered by series and time, compressed with zstd: the layouts once each, then of each sample the distances of series, time and
/// start from the one before, its layout, sum, and buckets as distances of key and number from those of the sample before.
/// </summary>
public static class HistogramBlock
{
    private const byte Version = 1;

    /// <summary>Encodes samples of any order.</summary>
    public static byte[] Encode(IEnumerable<SeriesHistogram> samples)
    {
        var ordered = samples.OrderBy(one => one.Series).ThenBy(one => one.Sample.Time).ToArray();
        var layouts = ordered.Select(one => one.Sample.Value.Layout).Distinct().Index().ToDictionary(pair => pair.Item, pair => pair.Index);
        var bytes = new ColumnBytes();
        bytes.Unsigned((ulong)layouts.Count);
        foreach (var layout in layouts.Keys)
            Layout(bytes, layout);
        bytes.Unsigned((ulong)ordered.Length);
        var (series, time, start) = (0L, 0L, 0L);
        var before = new Dictionary<long, double>();
        foreach (var (number, sample) in ordered)
        {
            if (number != series)
                before.Clear();
            bytes.Signed(number - series);
            bytes.Signed(sample.Time - time);
            bytes.Signed(sample.Start - start);
            (series, time, start) = (number, sample.Time, sample.Start);
            bytes.Unsigned((ulong)layouts[sample.Value.Layout]);
            bytes.Fixed(BitConverter.DoubleToUInt64Bits(sample.Value.Sum));
            bytes.Unsigned((ulong)sample.Value.Keys.Length);
            var key = 0L;
            for (var i = 0; i < sample.Value.Keys.Length; i++)
            {
                bytes.Signed(sample.Value.Keys[i] - key);
                key = sample.Value.Keys[i];
                // What a sender counts is whole.
                bytes.Signed((long)(sample.Value.Counts[i] - before.GetValueOrDefault(key)));
                before[key] = sample.Value.Counts[i];
            }
        }
        return [Version, .. Packing.Pack(bytes.Written)];
    }

    /// <summary>Decodes what <see cref="Encode"/> wrote.</summary>
    /// <exception cref="FormatException">The bytes are no such block.</exception>
    public static List<SeriesHistogram> Decode(byte[] block)
    {
        if (block.Length == 0 || block[0] != Version)
            throw new FormatException("The block has an unknown version.");
        var reader = new ByteReader(Packing.Unpack(block.AsSpan(1)));
        var layouts = new BucketLayout[reader.Count(reader.Unsigned())];
        for (var i = 0; i < layouts.Length; i++)
            layouts[i] = Layout(reader);
        var samples = new List<SeriesHistogram>();
        var (series, time, start) = (0L, 0L, 0L);
        var before = new Dictionary<long, double>();
        for (var left = reader.Count(reader.Unsigned()); left > 0; left--)
        {
            var distance = reader.Signed();
            if (distance != 0)
                before.Clear();
            (series, time, start) = (series + distance, time + reader.Signed(), start + reader.Signed());
            var layout = layouts[reader.Below(layouts.Length)];
            var sum = BitConverter.UInt64BitsToDouble(reader.Fixed());
            var keys = new long[reader.Count(reader.Unsigned())];
            var counts = new double[keys.Length];
            var key = 0L;
            for (var i = 0; i < keys.Length; i++)
            {
                keys[i] = key += reader.Signed();
                if ((i > 0 && keys[i] <= keys[i - 1]) || (layout is ExplicitBuckets given && (key < 0 || key > given.Upper.Length)))
                    throw ByteReader.Damaged();
                counts[i] = before[key] = before.GetValueOrDefault(key) + reader.Signed();
            }
            samples.Add(new SeriesHistogram(series, new HistogramSample(time, new Histogram(layout, keys, counts, sum), start)));
        }
        return samples;
    }

    private static void Layout(ColumnBytes bytes, BucketLayout layout)
    {
        if (layout is ExponentialBuckets powers)
        {
            bytes.Unsigned(0);
            bytes.Signed(powers.Scale);
            bytes.Fixed(BitConverter.DoubleToUInt64Bits(powers.ZeroThreshold));
            return;
        }
        var bounds = ((ExplicitBuckets)layout).Upper;
        bytes.Unsigned((ulong)bounds.Length + 1);
        foreach (var bound in bounds)
            bytes.Fixed(BitConverter.DoubleToUInt64Bits(bound));
    }

    private static BucketLayout Layout(ByteReader reader)
    {
        var count = reader.Count(reader.Unsigned());
        if (count == 0)
            return new ExponentialBuckets((int)Math.Clamp(reader.Signed(), -100, 100), BitConverter.UInt64BitsToDouble(reader.Fixed()));
        var bounds = new double[count - 1];
        for (var i = 0; i < bounds.Length; i++)
            bounds[i] = BitConverter.UInt64BitsToDouble(reader.Fixed());
        return new ExplicitBuckets(bounds);
    }
}
