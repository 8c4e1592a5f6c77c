using CsCheck;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Series;

public sealed class SampleBatchTests
{
    [Fact]
    public void Every_bit_pattern_comes_back()
    {
        // IEEE 754: NaN payloads, infinities and negative zero included.
        var sample = Gen.Select(Gen.Long, Gen.Long, Gen.ULong, (time, start, bits) => new Sample(time, BitConverter.UInt64BitsToDouble(bits), start));
        Gen.Select(Gen.Long, sample.Array[0, 9]).Array[0, 9].Sample(runs =>
        {
            (long, long, long, long)[] Told(IEnumerable<SeriesSample> samples) => [.. samples.Select(one => (one.Series, one.Sample.Time, one.Sample.Start, BitConverter.DoubleToInt64Bits(one.Sample.Value)))];
            var back = SampleBatch.Decode(SampleBatch.Encode([.. runs.Select(run => new SeriesRun(run.Item1, run.Item2))]));
            Told(back).ShouldBe(Told(runs.SelectMany(run => run.Item2.Select(one => new SeriesSample(run.Item1, one)))));
        }, iter: 1000);
    }

    [Fact]
    public void What_the_first_version_wrote_is_still_read()
    {
        byte[] raw = [1, .. BitConverter.GetBytes(2), .. new long[] { 7, 8, 1000, 2000, 0, 5, BitConverter.DoubleToInt64Bits(1.5), BitConverter.DoubleToInt64Bits(-2) }.SelectMany(BitConverter.GetBytes)];
        using var compressor = new ZstdSharp.Compressor(3);
        SampleBatch.Decode(compressor.Wrap(raw)).ShouldBe([new SeriesSample(7, new Sample(1000, 1.5)), new SeriesSample(8, new Sample(2000, -2, 5))]);
        Should.Throw<FormatException>(() => SampleBatch.Decode(compressor.Wrap(raw.AsSpan(0, raw.Length - 1))));
    }

    [Fact]
    public void Broken_bytes_are_a_format_error()
    {
        var good = SampleBatch.Encode([new SeriesRun(1, [new Sample(2, 3)])]);
        Gen.Select(Gen.Int[0, good.Length - 1], Gen.Byte).Sample((at, put) =>
        {
            var broken = good.ToArray();
            broken[at] = put;
            try
            {
                SampleBatch.Decode(broken);
            }
            catch (FormatException)
            {
                // Named, not a crash.
            }
        }, iter: 2_000);
        Should.Throw<FormatException>(() => SampleBatch.Decode(good.AsSpan(0, good.Length - 3)));
    }

    [Fact]
    public void The_interval_is_the_median_spacing()
    {
        CollectionInterval.Of([new(0, 1), new(15_000, 1)]).ShouldBe(CollectionInterval.Assumed);
        CollectionInterval.Of([new(0, 1), new(15_000, 1), new(30_000, 1), new(90_000, 1)]).ShouldBe(15_000);
        // The median of an even number of spacings, as MathNet gives it.
        var spacings = new[] { 10.0, 20.0, 30.0, 60.0 };
        var times = new long[] { 0, 10, 30, 60, 120 };
        CollectionInterval.Of([.. times.Select(time => new Sample(time, 0))]).ShouldBe(MathNet.Numerics.Statistics.Statistics.Median(spacings));
    }

    [Fact]
    public void The_median_is_that_of_mathnet_whatever_the_spacings() => CsCheck.Gen.Long[1, 30].Array[2, 60].Sample(spacings =>
    {
        var time = 0L;
        var samples = spacings.Select(spacing => new Sample(time += spacing, 0)).Prepend(new Sample(0, 0)).ToArray();
        CollectionInterval.Of(samples).ShouldBe(MathNet.Numerics.Statistics.Statistics.Median(spacings.Select(spacing => (double)spacing)));
    }, iter: 5000);
}
