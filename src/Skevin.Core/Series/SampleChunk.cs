using Skevin.Core.Blocks;

namespace Skevin.Core.Series;

/// <summary>Samples of one series.</summary>
public readonly record struct SeriesRun(long Series, IReadOnlyList<Sample> Samples);

/// <summary>
/// Folded samples of series that were scraped together: their times once, as differences of differences; start times once a run; values by
/// whichever is shortest of scaled integers (as differences, differences of differences, or differences in as few bits as the widest needs) and XOR with the value before, in planes of bytes; the
/// whole compressed with zstd. Sources: differences of differences and XOR of neighbours as in Pelkonen et al., VLDB 2015, sections 4.1.1 and 4.1.2, in bytes
/// instead of bits. Every bit pattern of a value comes back as it was.
/// </summary>
public static class SampleChunk
{
    private const byte Version = 1;
    private const int MostDecimals = 9;

    private static readonly double[] Powers = [1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9];

    // How the values of a series are written.
    private const byte Constant = 0, Differences = 1, SecondDifferences = 2, Xor = 3, Packed = 4;

    /// <summary>Splits series into groups of the same times: what one chunk can hold.</summary>
    public static IEnumerable<IReadOnlyList<SeriesRun>> Together(IEnumerable<SeriesRun> runs) =>
        runs.GroupBy(run => run.Samples, SameTimes.Instance).Select(group => (IReadOnlyList<SeriesRun>)[.. group.OrderBy(run => run.Series)]);

    /// <summary>Encodes series of the same times.</summary>
    /// <param name="runs">At least one series with at least one sample.</param>
    public static byte[] Encode(IReadOnlyList<SeriesRun> runs)
    {
        var bytes = new ColumnBytes();
        var times = runs[0].Samples;
        bytes.Unsigned((ulong)times.Count);
        var (before, step) = (0L, 0L);
        foreach (var sample in times)
        {
            bytes.Signed(sample.Time - before - step);
            (step, before) = (sample.Time - before, sample.Time);
        }
        bytes.Unsigned((ulong)runs.Count);
        var series = 0L;
        foreach (var run in runs)
        {
            bytes.Signed(run.Series - series);
            series = run.Series;
            Starts(bytes, run.Samples);
            Values(bytes, [.. run.Samples.Select(sample => sample.Value)]);
        }
        return [Version, .. Packing.Pack(bytes.ToArray())];
    }

    /// <summary>Decodes what <see cref="Encode"/> wrote.</summary>
    /// <param name="chunk">The whole chunk.</param>
    /// <param name="wanted">Which series; the others are passed over.</param>
    /// <exception cref="FormatException">The bytes are no such chunk.</exception>
    public static List<SeriesRun> Decode(byte[] chunk, Func<long, bool> wanted)
    {
        if (chunk.Length == 0 || chunk[0] != Version)
            throw new FormatException("The chunk has an unknown version.");
        var reader = new ByteReader(Packing.Unpack(chunk.AsSpan(1)));
        var times = new long[reader.Count(reader.Unsigned())];
        var (before, step) = (0L, 0L);
        for (var i = 0; i < times.Length; i++)
        {
            step += reader.Signed();
            times[i] = before += step;
        }
        var runs = new List<SeriesRun>();
        var series = 0L;
        for (var left = reader.Count(reader.Unsigned()); left > 0; left--)
        {
            series += reader.Signed();
            var starts = Starts(reader, times.Length);
            var mode = reader.Byte();
            var length = reader.Count(reader.Unsigned());
            if (!wanted(series))
            {
                reader.Pass(length);
                continue;
            }
            var values = Values(reader, mode, times.Length);
            var samples = new Sample[times.Length];
            for (var i = 0; i < samples.Length; i++)
                samples[i] = new Sample(times[i], values[i], starts is null ? 0 : starts[i]);
            runs.Add(new SeriesRun(series, samples));
        }
        return runs;
    }

    // Runs of the same start time: how many samples, and how much later than the one before. A single 0 stands for none at all.
    private static void Starts(ColumnBytes bytes, IReadOnlyList<Sample> samples)
    {
        if (samples.All(sample => sample.Start == 0))
        {
            bytes.Unsigned(0);
            return;
        }
        var runs = new List<(long Start, int Count)>();
        foreach (var sample in samples)
            if (runs.Count > 0 && runs[^1].Start == sample.Start)
                runs[^1] = (sample.Start, runs[^1].Count + 1);
            else
                runs.Add((sample.Start, 1));
        bytes.Unsigned((ulong)runs.Count);
        var before = 0L;
        foreach (var (start, count) in runs)
        {
            bytes.Unsigned((ulong)count);
            bytes.Signed(start - before);
            before = start;
        }
    }

    private static long[]? Starts(ByteReader reader, int count)
    {
        var runs = reader.Count(reader.Unsigned());
        if (runs == 0)
            return null;
        var starts = new long[count];
        var (at, start) = (0, 0L);
        for (; runs > 0; runs--)
        {
            var length = reader.Unsigned();
            start += reader.Signed();
            if (length > (ulong)(count - at))
                throw ByteReader.Damaged();
            starts.AsSpan(at, (int)length).Fill(start);
            at += (int)length;
        }
        return at == count ? starts : throw ByteReader.Damaged();
    }

    private static void Values(ColumnBytes bytes, double[] values)
    {
        var (mode, body) = Shortest(values);
        bytes.Raw([mode]);
        bytes.Unsigned((ulong)body.Length);
        bytes.Raw(body);
    }

    private static (byte Mode, byte[] Body) Shortest(double[] values)
    {
        var bits = values.Select(BitConverter.DoubleToInt64Bits).ToArray();
        if (bits.All(one => one == bits[0]))
            return (Constant, BitConverter.GetBytes(bits[0]));
        var xor = Planes(bits);
        if (Scaled(values, bits) is not var (decimals, scaled))
            return (Xor, xor);
        var (first, second) = (new ColumnBytes(), new ColumnBytes());
        first.Unsigned((ulong)decimals);
        second.Unsigned((ulong)decimals);
        var (before, step) = (0L, 0L);
        foreach (var value in scaled)
        {
            first.Signed(value - before);
            second.Signed(value - before - step);
            (step, before) = (value - before, value);
        }
        // What counts is the length after compression.
        return new (byte Mode, byte[] Body)[] { (Differences, first.ToArray()), (SecondDifferences, second.ToArray()), (Packed, Narrow(decimals, scaled)), (Xor, xor) }
            .MinBy(one => Packing.Pack(one.Body).Length);
    }

    // Differences above the least of them, each in as many bits as the widest needs: what is left of noise that no pattern shortens.
    private static byte[] Narrow(int decimals, long[] scaled)
    {
        var steps = scaled.Select((value, i) => i == 0 ? 0 : value - scaled[i - 1]).ToArray();
        var least = steps.Min();
        var width = 64 - System.Numerics.BitOperations.LeadingZeroCount((ulong)(steps.Max() - least));
        var bytes = new ColumnBytes();
        bytes.Unsigned((ulong)decimals);
        bytes.Signed(scaled[0]);
        bytes.Signed(least);
        bytes.Unsigned((ulong)width);
        var packed = new byte[(steps.Length * width + 7) / 8];
        var at = 0;
        foreach (var step in steps)
            for (var bit = 0; bit < width; bit++, at++)
                if (((ulong)(step - least) >> bit & 1) != 0)
                    packed[at >> 3] |= (byte)(1 << (at & 7));
        bytes.Raw(packed);
        return bytes.ToArray();
    }

    private static double[] Wide(ByteReader reader, int count)
    {
        var decimals = reader.Below(MostDecimals + 1);
        var (value, least, width) = (reader.Signed(), reader.Signed(), reader.Below(65));
        var packed = reader.Take(checked((int)(((long)count * width + 7) / 8)));
        var values = new double[count];
        var at = 0;
        for (var i = 0; i < count; i++)
        {
            var step = 0UL;
            for (var bit = 0; bit < width; bit++, at++)
                step |= (ulong)(packed[at >> 3] >> (at & 7) & 1) << bit;
            if (i > 0)
                value += (long)step + least;
            values[i] = value / Power(decimals);
        }
        return values;
    }

    private static double[] Values(ByteReader reader, byte mode, int count)
    {
        var values = new double[count];
        switch (mode)
        {
            case Constant:
                values.AsSpan().Fill(BitConverter.UInt64BitsToDouble(reader.Fixed()));
                return values;
            case Differences or SecondDifferences:
                var decimals = reader.Below(MostDecimals + 1);
                var (value, step) = (0L, 0L);
                for (var i = 0; i < count; i++)
                {
                    step = mode == Differences ? reader.Signed() : step + reader.Signed();
                    value += step;
                    values[i] = value / Power(decimals);
                }
                return values;
            case Packed:
                return Wide(reader, count);
            case Xor:
                var planes = reader.Take(checked(count * 8));
                var before = 0UL;
                for (var i = 0; i < count; i++)
                {
                    var bits = 0UL;
                    for (var plane = 0; plane < 8; plane++)
                        bits |= (ulong)planes[plane * count + i] << (plane * 8);
                    values[i] = BitConverter.UInt64BitsToDouble(before ^= bits);
                }
                return values;
            default:
                throw ByteReader.Damaged();
        }
    }

    private static byte[] Planes(long[] bits)
    {
        var planes = new byte[bits.Length * 8];
        var before = 0L;
        for (var i = 0; i < bits.Length; i++)
        {
            var xor = bits[i] ^ before;
            before = bits[i];
            for (var plane = 0; plane < 8; plane++)
                planes[plane * bits.Length + i] = (byte)(xor >> (plane * 8));
        }
        return planes;
    }

    // The values as integers of the fewest decimals that give back every bit; null where there are none.
    private static (int Decimals, long[] Values)? Scaled(double[] values, long[] bits)
    {
        var scaled = new long[values.Length];
        for (var decimals = 0; decimals <= MostDecimals; decimals++)
        {
            var (power, fits) = (Power(decimals), true);
            for (var i = 0; fits && i < values.Length; i++)
            {
                var rounded = Math.Round(values[i] * power);
                fits = Math.Abs(rounded) < 1L << 53 && BitConverter.DoubleToInt64Bits((long)rounded / power) == bits[i];
                scaled[i] = fits ? (long)rounded : 0;
            }
            if (fits)
                return (decimals, scaled);
        }
        return null;
    }

    private static double Power(int decimals) => Powers[decimals];

    private sealed class SameTimes : IEqualityComparer<IReadOnlyList<Sample>>
    {
        public static readonly SameTimes Instance = new();

        public bool Equals(IReadOnlyList<Sample>? one, IReadOnlyList<Sample>? other)
        {
            if (one!.Count != other!.Count)
                return false;
            for (var i = 0; i < one.Count; i++)
                if (one[i].Time != other[i].Time)
                    return false;
            return true;
        }

        public int GetHashCode(IReadOnlyList<Sample> samples) => HashCode.Combine(samples.Count, samples[0].Time, samples[^1].Time);
    }
}
