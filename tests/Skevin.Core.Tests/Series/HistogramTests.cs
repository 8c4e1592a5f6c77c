using CsCheck;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Series;

/// <summary>The reference are the observations themselves: a histogram is a coarse picture of them, and everything done to it must stay one.</summary>
public sealed class HistogramTests
{
    private static readonly ExplicitBuckets Milliseconds = new([5, 10, 25, 50, 100, 250, 500]);

    private static Histogram Of(BucketLayout layout, IEnumerable<double> values)
    {
        var counts = new SortedDictionary<long, double>();
        var sum = 0.0;
        foreach (var value in values)
        {
            var key = layout switch
            {
                ExplicitBuckets given => given.Upper.TakeWhile(bound => value > bound).Count(),
                ExponentialBuckets powers when Math.Abs(value) <= powers.ZeroThreshold => ExponentialBuckets.Zero,
                // The index of a value: the bucket above a power does not hold it.
                ExponentialBuckets powers => ExponentialBuckets.Key((int)Math.Ceiling(Math.Log2(Math.Abs(value)) * Math.Pow(2, powers.Scale)) - 1, value < 0),
                _ => throw new InvalidOperationException(),
            };
            counts[key] = counts.GetValueOrDefault(key) + 1;
            sum += value;
        }
        return new Histogram(layout, [.. counts.Keys], [.. counts.Values], sum);
    }

    // Not on a power itself, where the last bit of a logarithm decides.
    private static readonly Gen<double[]> Values = Gen.Double[-6, 6].Select(power => Math.Pow(10, power) * 1.000123).Array[1, 80];

    private static void Same(Histogram one, Histogram other)
    {
        one.Layout.ShouldBe(other.Layout);
        one.Keys.ShouldBe(other.Keys);
        one.Counts.Zip(other.Counts).ShouldAllBe(pair => Math.Abs(pair.First - pair.Second) < 1e-6);
        one.Sum.ShouldBe(other.Sum, 1e-6 * Math.Max(1, Math.Abs(other.Sum)));
    }

    [Fact]
    public void A_quantile_is_linear_inside_a_bucket()
    {
        // Ten observations: 2 up to 10, 5 up to 25, 3 up to 50. Half of them are 3 of the 5: 10 + 15 · 3/5.
        var histogram = new Histogram(Milliseconds, [1, 2, 3], [2, 5, 3], 200);
        histogram.ValueBelow(0.5).ShouldBe(19, 1e-12);
        histogram.ValueBelow(0).ShouldBe(5);
        histogram.ValueBelow(1).ShouldBe(50);
        histogram.Mean.ShouldBe(20);
        // The lowest bucket begins at zero, the highest has only its lower bound.
        new Histogram(Milliseconds, [0], [4], 8).ValueBelow(0.5).ShouldBe(2.5);
        new Histogram(Milliseconds, [7], [4], 8000).ValueBelow(0.5).ShouldBe(500);
        new Histogram(new ExplicitBuckets([-3, 0]), [0], [1], -9).ValueBelow(0.5).ShouldBe(-3);
        double.IsNaN(new Histogram(new ExplicitBuckets([]), [0], [1], 1).ValueBelow(0.5)).ShouldBeTrue();
        double.IsNaN(new Histogram(Milliseconds, [], [], 0).ValueBelow(0.5)).ShouldBeTrue();
    }

    // OpenTelemetry metrics data model, "Exponential Scale": base = 2^(2^-scale), at scale 0 the buckets are (1, 2], (2, 4], (4, 8].
    [Theory]
    [InlineData(0, 1, 2, 4)]
    [InlineData(-1, 1, 4, 16)]
    [InlineData(1, 2, 2, 2.8284271247461903)]
    [InlineData(3, 8, 2, 2.1810154653305154)]
    public void An_exponential_bucket_has_the_bounds_of_its_scale(int scale, int index, double lower, double upper)
    {
        var layout = new ExponentialBuckets(scale, 0);
        layout.Bounds(ExponentialBuckets.Key(index)).ShouldSatisfyAllConditions(bounds => bounds.Lower.ShouldBe(lower, 1e-12), bounds => bounds.Upper.ShouldBe(upper, 1e-12));
        layout.Bounds(ExponentialBuckets.Key(index, true)).ShouldSatisfyAllConditions(bounds => bounds.Lower.ShouldBe(-upper, 1e-12), bounds => bounds.Upper.ShouldBe(-lower, 1e-12));
    }

    [Fact]
    public void Its_quantile_is_off_by_less_than_a_bucket() => Gen.Select(Values, Gen.Int[1, 6], Gen.Double[0, 1], Gen.Bool).Sample((values, scale, share, negative) =>
    {
        var signed = values.Select(value => negative ? -value : value).Order().ToArray();
        // The observation of this rank, not a value between two.
        var exact = signed[Math.Clamp((int)Math.Ceiling(signed.Length * share) - 1, 0, signed.Length - 1)];
        var ratio = Of(new ExponentialBuckets(scale, 0), signed).ValueBelow(share) / exact;
        var most = Math.Pow(2, Math.Pow(2, -scale)) * 1.0000001;
        ratio.ShouldBeInRange(1 / most, most);
    }, iter: 5000);

    [Fact]
    public void Two_together_are_the_histogram_of_all_observations() => Gen.Select(Values, Values, Gen.Int[-3, 6], Gen.Int[-3, 6]).Sample((one, other, scale, otherScale) =>
    {
        var (fine, coarse) = (new ExponentialBuckets(scale, 0), new ExponentialBuckets(otherScale, 0));
        var common = new ExponentialBuckets(Math.Min(scale, otherScale), 0);
        Same(Histogram.Together(Of(fine, one), Of(coarse, other.Select(value => -value)))!, Of(common, one.Concat(other.Select(value => -value))));
        Same(Histogram.Together(Of(Milliseconds, one), Of(new ExplicitBuckets([10, 30, 100]), other))!, Of(new ExplicitBuckets([10, 100]), one.Concat(other)));
        Histogram.Together(Of(Milliseconds, one), Of(fine, other)).ShouldBeNull();
    }, iter: 1000);

    [Fact]
    public void What_was_added_since_is_the_histogram_of_what_was_added() => Gen.Select(Values, Values, Gen.Int[-2, 4]).Sample((before, added, scale) =>
    {
        // A sender goes to a coarser scale when its values spread.
        foreach (var (early, late) in new (BucketLayout, BucketLayout)[] { (Milliseconds, Milliseconds), (new ExponentialBuckets(scale + 1, 0), new ExponentialBuckets(scale, 0)) })
        {
            var now = Of(late, before.Concat(added));
            Same(now.Since(Of(early, before))!, Of(late, added));
            now.Since(now).ShouldNotBeNull().Count.ShouldBe(0);
            Of(late, before).Since(now).ShouldBeNull("it fell");
        }
        Of(Milliseconds, before).Since(Of(new ExplicitBuckets([1, 2]), before)).ShouldBeNull("other bounds");
    }, iter: 1000);

    [Fact]
    public void Slots_and_gaps_together_have_every_observation() => Gen.Select(Values, Gen.Int[1, 30]).Array[3, 40].Sample(scrapes =>
    {
        var (time, all, samples) = (0L, new List<double>(), new List<HistogramSample>());
        foreach (var (values, steps) in scrapes)
        {
            time += steps > 28 ? 600_000 : 15_000;
            all.AddRange(values);
            samples.Add(new HistogramSample(time, Of(Milliseconds, all), 0));
        }
        var slots = new Histogram?[time / 60_000 + 1];
        var gaps = HistogramRise.IntoSlots(samples, 0, 60_000, slots, 15_000);
        (slots.Sum(slot => slot?.Count ?? 0) + gaps.Sum(gap => gap.Rise)).ShouldBe(all.Count - scrapes[0].Item1.Length, 1e-6);
        (slots.Sum(slot => slot?.Sum ?? 0)).ShouldBeLessThanOrEqualTo(all.Sum() * 1.000001);
    }, iter: 300);

    [Fact]
    public void Delta_temporality_needs_nothing_of_its_own()
    {
        // Each sample holds what was added since the one before, and says so by its start.
        HistogramSample At(long time, params double[] values) => new(time, Of(Milliseconds, values), time - 15_000);
        var slots = new Histogram?[1];
        HistogramRise.IntoSlots([At(75_000, 1, 2), At(90_000, 3), At(105_000), At(120_000, 7, 8, 9)], 60_000, 60_000, slots, 15_000).ShouldBeEmpty();
        Same(slots[0]!, Of(Milliseconds, [1, 2, 3, 7, 8, 9]));
    }

    private static readonly Gen<SeriesHistogram> Drawn = Gen.Select(Gen.Long[0, 3], Gen.Long[0, 1L << 41], Gen.Long[0, 1L << 41], Values, Gen.Int[0, 2]).Select((series, time, start, values, kind) =>
        new SeriesHistogram(series, new HistogramSample(time, Of(kind switch { 0 => Milliseconds, 1 => new ExplicitBuckets([]), _ => new ExponentialBuckets(3, 0.001) }, values), start)));

    [Fact]
    public void Every_bit_comes_back() => Drawn.Array[0, 30].Sample(samples =>
        HistogramBlock.Decode(HistogramBlock.Encode(samples)).ShouldBe(samples.OrderBy(one => one.Series).ThenBy(one => one.Sample.Time)), iter: 1000);

    [Fact]
    public void A_damaged_block_is_refused_not_worse()
    {
        void Refused(byte[] block)
        {
            try
            {
                HistogramBlock.Decode(block);
            }
            catch (FormatException)
            {
                // Said so.
            }
        }
        Gen.Select(Drawn.Array[0, 9], Gen.Int[0, 2000], Gen.Byte).Sample((samples, at, with) =>
        {
            var block = HistogramBlock.Encode(samples);
            block[at % block.Length] ^= with;
            Refused(block);
        }, iter: 2000);
        Gen.Byte.Array[0, 80].Sample(inside =>
        {
            using var compressor = new ZstdSharp.Compressor(1);
            Refused([1, .. compressor.Wrap(inside)]);
        }, iter: 10_000);
    }
}
