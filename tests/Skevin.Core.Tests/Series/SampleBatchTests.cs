using CsCheck;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Series;

public sealed class SampleBatchTests
{
    [Fact]
    public void Every_bit_pattern_comes_back()
    {
        // IEEE 754: NaN payloads, infinities and negative zero included.
        var sample = Gen.Select(Gen.Long, Gen.Long, Gen.Long, Gen.ULong, (series, time, start, bits) =>
            new SeriesSample(series, new Sample(time, BitConverter.UInt64BitsToDouble(bits), start)));
        sample.Array[0, 50].Sample(samples =>
        {
            var back = SampleBatch.Decode(SampleBatch.Encode(samples));
            back.Count.ShouldBe(samples.Length);
            for (var i = 0; i < samples.Length; i++)
            {
                back[i].Series.ShouldBe(samples[i].Series);
                back[i].Sample.Time.ShouldBe(samples[i].Sample.Time);
                back[i].Sample.Start.ShouldBe(samples[i].Sample.Start);
                BitConverter.DoubleToInt64Bits(back[i].Sample.Value).ShouldBe(BitConverter.DoubleToInt64Bits(samples[i].Sample.Value));
            }
        }, iter: 500);
    }

    [Fact]
    public void Broken_bytes_are_a_format_error()
    {
        var good = SampleBatch.Encode([new SeriesSample(1, new Sample(2, 3))]);
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
}
