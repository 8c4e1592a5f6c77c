using CsCheck;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Series;

public sealed class SampleChunkTests
{
    // Counters and gauges as they come, and every bit pattern there is: NaN with its payload, both zeros, infinities, denormals.
    private static readonly Gen<double> Value = Gen.OneOf(
        Gen.Long.Select(BitConverter.Int64BitsToDouble), Gen.Int[-1000, 1000].Select(number => (double)number), Gen.Int[0, 1_000_000].Select(number => number / 1000.0), Gen.Double[0, 1],
        Gen.Int[0, 4].Select(i => new[] { 0.0, -0.0, double.NaN, double.PositiveInfinity, double.Epsilon }[i]));

    private static readonly Gen<IReadOnlyList<SeriesRun>> Runs = Gen.Select(Gen.Long[-1L << 50, 1L << 50].Array[1, 40], Gen.Int[1, 5], Gen.Bool).SelectMany((times, series, plain) =>
    {
        var ordered = times.Distinct().Order().ToArray();
        return Gen.Select(plain ? Gen.Int[0, 50].Select(number => number / 4.0).Array[ordered.Length] : Value.Array[ordered.Length], Gen.Long[0, 3].Array[ordered.Length], Gen.Long).Array[series].Select(drawn =>
            (IReadOnlyList<SeriesRun>)[.. drawn.Select(one => new SeriesRun(one.Item3, [.. ordered.Select((time, i) => new Sample(time, one.Item1[i], one.Item2[i] / 2 * 1_000_000))]))]);
    });

    private static (long, long, long, long)[] Told(IEnumerable<SeriesRun> runs) =>
        [.. runs.SelectMany(run => run.Samples.Select(sample => (run.Series, sample.Time, BitConverter.DoubleToInt64Bits(sample.Value), sample.Start)))];

    [Fact]
    public void Every_bit_comes_back() => Runs.Sample(runs => Told(SampleChunk.Decode(SampleChunk.Encode(runs), _ => true)).ShouldBe(Told(runs)), iter: 4000);

    [Fact]
    public void Only_what_is_wanted_is_decoded() => Runs.Sample(runs =>
    {
        var wanted = runs[runs.Count / 2].Series;
        Told(SampleChunk.Decode(SampleChunk.Encode(runs), series => series == wanted)).ShouldBe(Told(runs.Where(run => run.Series == wanted)));
    }, iter: 500);

    [Fact]
    public void Series_of_the_same_times_go_together()
    {
        Sample[] At(params long[] times) => [.. times.Select(time => new Sample(time, time))];
        var groups = SampleChunk.Together([new(3, At(1, 2)), new(1, At(1, 2)), new(2, At(1, 3)), new(4, At(1))]).Select(group => group.Select(run => run.Series).ToArray()).ToArray();
        groups.ShouldBe([[1, 3], [2], [4]], ignoreOrder: true);
    }

    [Fact]
    public void A_damaged_chunk_is_refused_not_worse() => Gen.Select(Runs, Gen.Int[0, 2000], Gen.Byte, Gen.Int[0, 30]).Sample((runs, at, with, cut) =>
    {
        var chunk = SampleChunk.Encode(runs);
        chunk[at % chunk.Length] ^= with;
        Refused(chunk);
        Refused(chunk[..Math.Max(0, chunk.Length - cut)]);
    }, iter: 2000);

    [Fact]
    public void Its_inside_may_be_anything_and_is_refused_not_worse() => Gen.Byte.Array[0, 60].Sample(inside =>
    {
        using var compressor = new ZstdSharp.Compressor(1);
        Refused([1, .. compressor.Wrap(inside)]);
    }, iter: 10_000);

    private static void Refused(byte[] chunk)
    {
        try
        {
            SampleChunk.Decode(chunk, _ => true);
        }
        catch (FormatException)
        {
            // Said so.
        }
    }
}
