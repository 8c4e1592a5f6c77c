using Skevin.Core.Blocks;

namespace Skevin.Core.Series;

/// <summary>Samples of one series.</summary>
public readonly record struct SeriesRun(long Series, IReadOnlyList<Sample> Samples);

/// <summary>
/// Folded samples of series that were scraped together: their times once, as differences of differences; start times once a run; values
/// as <see cref="ValueCodec"/> writes them; the whole compressed with zstd. Source: differences of differences as in Pelkonen et al., VLDB 2015, section 4.1.1, in
/// bytes instead of bits.
/// </summary>
public static class SampleChunk
{
    private const byte Version = 1;

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
        Times(bytes, times);
        bytes.Unsigned((ulong)runs.Count);
        var series = 0L;
        foreach (var run in runs)
        {
            bytes.Signed(run.Series - series);
            series = run.Series;
            Starts(bytes, run.Samples);
            ValueCodec.Write(bytes, [.. run.Samples.Select(sample => sample.Value)]);
        }
        return [Version, .. Packing.Pack(bytes.Written)];
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
        var times = Times(reader, reader.Count(reader.Unsigned()));
        var runs = new List<SeriesRun>();
        var series = 0L;
        for (var left = reader.Count(reader.Unsigned()); left > 0; left--)
        {
            series += reader.Signed();
            var starts = Starts(reader, times.Length);
            if (!wanted(series))
            {
                ValueCodec.Pass(reader);
                continue;
            }
            var values = ValueCodec.Read(reader, times.Length);
            var samples = new Sample[times.Length];
            for (var i = 0; i < samples.Length; i++)
                samples[i] = new Sample(times[i], values[i], starts is null ? 0 : starts[i]);
            runs.Add(new SeriesRun(series, samples));
        }
        return runs;
    }

    // Differences of differences.
    internal static void Times(ColumnBytes bytes, IReadOnlyList<Sample> samples)
    {
        var (before, step) = (0L, 0L);
        foreach (var sample in samples)
        {
            bytes.Signed(sample.Time - before - step);
            (step, before) = (sample.Time - before, sample.Time);
        }
    }

    internal static long[] Times(ByteReader reader, int count)
    {
        var times = new long[count];
        var (before, step) = (0L, 0L);
        for (var i = 0; i < times.Length; i++)
        {
            step += reader.Signed();
            times[i] = before += step;
        }
        return times;
    }

    // Runs of the same start time: how many samples, and how much later than the one before. A single 0 stands for none at all.
    internal static void Starts(ColumnBytes bytes, IReadOnlyList<Sample> samples)
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

    internal static long[]? Starts(ByteReader reader, int count)
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
