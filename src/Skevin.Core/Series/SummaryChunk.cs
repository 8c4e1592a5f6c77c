using Skevin.Core.Blocks;

namespace Skevin.Core.Series;

/// <summary>
/// Summaries of the series of one metric, compressed with zstd. Of each series: its number, whether it is a counter, interval and gaps, then its columns; a
/// gauge has sum, least and greatest, a counter its rise, neither has the other's.
/// </summary>
public static class SummaryChunk
{
    private const byte Version = 1;

    /// <summary>Encodes summaries.</summary>
    /// <param name="runs">Of each series its number and whether it is a counter.</param>
    public static byte[] Encode(IReadOnlyCollection<(long Series, bool Counter, SummaryRun Run)> runs)
    {
        var bytes = new ColumnBytes();
        bytes.Unsigned((ulong)runs.Count);
        var before = 0L;
        foreach (var (series, counter, run) in runs)
        {
            bytes.Signed(series - before);
            before = series;
            bytes.Unsigned(counter ? 1UL : 0);
            bytes.Unsigned((ulong)run.Summaries.Count);
            var one = Series(counter, run);
            bytes.Unsigned((ulong)one.Length);
            bytes.Raw(one);
        }
        return [Version, .. Packing.Pack(bytes.Written)];
    }

    /// <summary>Decodes what <see cref="Encode"/> wrote.</summary>
    /// <param name="chunk">The whole chunk.</param>
    /// <param name="wanted">Which series; the others are passed over.</param>
    /// <exception cref="FormatException">The bytes are no such chunk.</exception>
    public static List<(long Series, bool Counter, SummaryRun Run)> Decode(byte[] chunk, Func<long, bool> wanted)
    {
        if (chunk.Length == 0 || chunk[0] != Version)
            throw new FormatException("The chunk has an unknown version.");
        var reader = new ByteReader(Packing.Unpack(chunk.AsSpan(1)));
        var runs = new List<(long, bool, SummaryRun)>();
        var series = 0L;
        for (var left = reader.Count(reader.Unsigned()); left > 0; left--)
        {
            series += reader.Signed();
            var counter = reader.Below(2) == 1;
            var summaries = reader.Unsigned();
            var length = reader.Count(reader.Unsigned());
            if (wanted(series))
                runs.Add((series, counter, Series(counter, reader, reader.Count(summaries))));
            else
                reader.Pass(length);
        }
        return runs;
    }

    private static byte[] Series(bool counter, SummaryRun run)
    {
        var bytes = new ColumnBytes();
        bytes.Fixed(BitConverter.DoubleToUInt64Bits(run.Interval));
        bytes.Unsigned((ulong)run.Gaps.Count);
        foreach (var gap in run.Gaps)
        {
            bytes.Signed(gap.From);
            bytes.Signed(gap.To - gap.From);
            bytes.Fixed(BitConverter.DoubleToUInt64Bits(gap.Rise));
        }
        var before = new Sample(0, 0);
        foreach (var one in run.Summaries)
        {
            bytes.Unsigned((ulong)one.Count);
            bytes.Signed(one.First.Time - before.Time);
            bytes.Signed(one.Last.Time - one.First.Time);
            bytes.Signed(one.First.Start - before.Start);
            bytes.Signed(one.Last.Start - one.First.Start);
            before = one.Last;
        }
        void Column(Func<SampleSummary, double> value) => ValueCodec.Write(bytes, [.. run.Summaries.Select(value)]);
        if (run.Summaries.Count == 0)
            return bytes.ToArray();
        Column(one => one.First.Value);
        Column(one => one.Last.Value);
        if (counter)
        {
            Column(one => one.Rise);
            return bytes.ToArray();
        }
        Column(one => one.Sum);
        Column(one => one.Min);
        Column(one => one.Max);
        return bytes.ToArray();
    }

    private static SummaryRun Series(bool counter, ByteReader reader, int count)
    {
        var interval = BitConverter.UInt64BitsToDouble(reader.Fixed());
        var gaps = new CounterGap[reader.Count(reader.Unsigned())];
        for (var i = 0; i < gaps.Length; i++)
        {
            var from = reader.Signed();
            gaps[i] = new CounterGap(from, from + reader.Signed(), BitConverter.UInt64BitsToDouble(reader.Fixed()));
        }
        var summaries = new SampleSummary[count];
        var before = new Sample(0, 0);
        for (var i = 0; i < count; i++)
        {
            var many = (int)Math.Min(reader.Unsigned(), int.MaxValue);
            var first = before.Time + reader.Signed();
            var last = first + reader.Signed();
            var start = before.Start + reader.Signed();
            before = new Sample(last, 0, start + reader.Signed());
            summaries[i] = new SampleSummary(many, double.NaN, double.NaN, double.NaN, new Sample(first, 0, start), before, double.NaN);
        }
        if (count == 0)
            return new SummaryRun(interval, summaries, gaps);
        var (firsts, lasts) = (ValueCodec.Read(reader, count), ValueCodec.Read(reader, count));
        var third = ValueCodec.Read(reader, count);
        var (least, greatest) = counter ? (null, null) : (ValueCodec.Read(reader, count), ValueCodec.Read(reader, count));
        for (var i = 0; i < count; i++)
        {
            var one = summaries[i] with { First = summaries[i].First with { Value = firsts[i] }, Last = summaries[i].Last with { Value = lasts[i] } };
            summaries[i] = counter ? one with { Rise = third[i] } : one with { Sum = third[i], Min = least![i], Max = greatest![i] };
        }
        return new SummaryRun(interval, summaries, gaps);
    }
}
