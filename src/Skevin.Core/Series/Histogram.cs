namespace Skevin.Core.Series;

/// <summary>Where the buckets of a histogram lie. Buckets have keys that sort as their values do.</summary>
public abstract record BucketLayout
{
    /// <summary>Lower and upper bound of a bucket; infinite where it is open.</summary>
    public abstract (double Lower, double Upper) Bounds(long key);

    /// <summary>The key a bucket has in a layout as coarse as this or coarser, into which all of it falls.</summary>
    internal abstract long Into(BucketLayout coarser, long key);

    /// <summary>The finest layout both can be brought to without splitting a bucket; null where there is none.</summary>
    public static BucketLayout? Common(BucketLayout one, BucketLayout other) => (one, other) switch
    {
        _ when one.Equals(other) => one,
        (ExplicitBuckets a, ExplicitBuckets b) => new ExplicitBuckets([.. a.Upper.Intersect(b.Upper)]),
        (ExponentialBuckets a, ExponentialBuckets b) => new ExponentialBuckets(Math.Min(a.Scale, b.Scale), Math.Max(a.ZeroThreshold, b.ZeroThreshold)),
        _ => null,
    };
}

/// <summary>Buckets between given bounds: (−∞, b₀], (b₀, b₁], …, (bₙ, ∞). Source: OpenTelemetry metrics data model, "Histogram".</summary>
/// <param name="Upper">Upper bounds, rising, in the series' unit.</param>
public sealed record ExplicitBuckets(double[] Upper) : BucketLayout
{
    /// <inheritdoc/>
    public override (double Lower, double Upper) Bounds(long key) => (key == 0 ? double.NegativeInfinity : Upper[key - 1], key == Upper.Length ? double.PositiveInfinity : Upper[key]);

    internal override long Into(BucketLayout coarser, long key)
    {
        var bounds = ((ExplicitBuckets)coarser).Upper;
        if (key == Upper.Length)
            return bounds.Length;
        var at = Array.BinarySearch(bounds, Upper[key]);
        return at < 0 ? ~at : at;
    }

    /// <inheritdoc/>
    public bool Equals(ExplicitBuckets? other) => other is not null && (ReferenceEquals(Upper, other.Upper) || Upper.AsSpan().SequenceEqual(other.Upper));

    /// <inheritdoc/>
    public override int GetHashCode() => Upper.Length == 0 ? 0 : HashCode.Combine(Upper.Length, Upper[0], Upper[^1]);
}

/// <summary>
/// Buckets (bⁱ, bⁱ⁺¹] with b = 2^(2^−scale), the same below zero, and one around zero. Source: OpenTelemetry metrics data model, "ExponentialHistogram".
/// </summary>
/// <param name="Scale">Greater is finer.</param>
/// <param name="ZeroThreshold">Values not farther from zero are in the bucket around it.</param>
public sealed record ExponentialBuckets(int Scale, double ZeroThreshold) : BucketLayout
{
    // So far from zero that positive buckets have positive keys.
    private const long Middle = 1L << 33;

    /// <summary>Key of the bucket around zero.</summary>
    public const long Zero = 0;

    /// <summary>Key of bucket i above zero, or below.</summary>
    public static long Key(int index, bool negative = false) => negative ? -(Middle + index) : Middle + index;

    private static int Index(long key) => (int)(Math.Abs(key) - Middle);

    /// <summary>bⁱ.</summary>
    public double Bound(long index) => Math.Pow(2, index * Math.Pow(2, -Scale));

    /// <inheritdoc/>
    public override (double Lower, double Upper) Bounds(long key)
    {
        if (key == Zero)
            return (-ZeroThreshold, ZeroThreshold);
        var (near, far) = (Bound(Index(key)), Bound(Index(key) + 1L));
        return key > 0 ? (near, far) : (-far, -near);
    }

    internal override long Into(BucketLayout coarser, long key)
    {
        var into = (ExponentialBuckets)coarser;
        if (key == Zero || Bound(Index(key) + 1L) <= into.ZeroThreshold)
            return Zero;
        return Key(Index(key) >> Math.Min(31, Scale - into.Scale), key < 0);
    }
}

/// <summary>Observations by bucket, with their sum. Numbers of observations may be broken where a rise was split between two slots.</summary>
/// <param name="Layout">Where the buckets lie.</param>
/// <param name="Keys">Buckets that hold something, rising.</param>
/// <param name="Counts">How many each holds.</param>
/// <param name="Sum">Sum of all observations, in the series' unit.</param>
public sealed record Histogram(BucketLayout Layout, long[] Keys, double[] Counts, double Sum)
{
    /// <summary>How many observations.</summary>
    public double Count => Counts.Sum();

    /// <summary>The mean; NaN of none.</summary>
    public double Mean => Count > 0 ? Sum / Count : double.NaN;

    /// <summary>Every number times a factor.</summary>
    public Histogram Times(double factor) => this with { Counts = [.. Counts.Select(count => count * factor)], Sum = Sum * factor };

    /// <summary>Both together, in the finest layout both can be brought to; null where one has given bounds and the other powers.</summary>
    public static Histogram? Together(Histogram one, Histogram other) =>
        BucketLayout.Common(one.Layout, other.Layout) is { } common ? Joined(one.In(common), other.In(common), 1) : null;

    /// <summary>What was added since an earlier state, or null where that is not its past: a bucket fell, or the bounds are others.</summary>
    public Histogram? Since(Histogram before)
    {
        var common = BucketLayout.Common(Layout, before.Layout);
        if (common is null || (common is ExplicitBuckets && !(common.Equals(Layout) && common.Equals(before.Layout))))
            return null;
        var rise = Joined(In(common), before.In(common), -1);
        return rise.Counts.All(count => count >= 0) ? rise : null;
    }

    /// <summary>
    /// The value below which a share of the observations lies: linear inside a bucket of given bounds, along the powers inside an exponential one. A bucket that is open
    /// ends at the bound it has, and begins at 0 where that bound is above. NaN of none.
    /// </summary>
    /// <param name="share">0 to 1.</param>
    public double ValueBelow(double share)
    {
        var rank = Count * share;
        for (var i = 0; i < Keys.Length; i++)
        {
            if (rank > Counts[i] && i < Keys.Length - 1)
            {
                rank -= Counts[i];
                continue;
            }
            var (lower, upper) = Layout.Bounds(Keys[i]);
            var part = Counts[i] > 0 ? Math.Clamp(rank / Counts[i], 0, 1) : 0;
            if (double.IsInfinity(lower))
                lower = upper > 0 && !double.IsInfinity(upper) ? 0 : upper;
            if (double.IsInfinity(upper))
                upper = lower;
            if (double.IsInfinity(lower))
                return double.NaN;
            return Layout is ExponentialBuckets && Keys[i] != ExponentialBuckets.Zero ? lower * Math.Pow(upper / lower, part) : lower + (upper - lower) * part;
        }
        return double.NaN;
    }

    private Histogram In(BucketLayout layout)
    {
        if (layout.Equals(Layout))
            return this;
        var counts = new SortedDictionary<long, double>();
        for (var i = 0; i < Keys.Length; i++)
        {
            var key = Layout.Into(layout, Keys[i]);
            counts[key] = counts.GetValueOrDefault(key) + Counts[i];
        }
        return new Histogram(layout, [.. counts.Keys], [.. counts.Values], Sum);
    }

    private static Histogram Joined(Histogram one, Histogram other, int sign)
    {
        var (keys, counts) = (new List<long>(one.Keys.Length), new List<double>(one.Keys.Length));
        for (int i = 0, j = 0; i < one.Keys.Length || j < other.Keys.Length;)
        {
            var first = j == other.Keys.Length || (i < one.Keys.Length && one.Keys[i] <= other.Keys[j]);
            var key = first ? one.Keys[i] : other.Keys[j];
            var count = first ? one.Counts[i++] : 0;
            if (j < other.Keys.Length && other.Keys[j] == key)
                count += sign * other.Counts[j++];
            if (count == 0)
                continue;
            keys.Add(key);
            counts.Add(count);
        }
        return new Histogram(one.Layout, [.. keys], [.. counts], one.Sum + sign * other.Sum);
    }

    /// <inheritdoc/>
    public bool Equals(Histogram? other) => other is not null && Sum.Equals(other.Sum) && Layout.Equals(other.Layout) && Keys.AsSpan().SequenceEqual(other.Keys) && Counts.AsSpan().SequenceEqual(other.Counts);

    /// <inheritdoc/>
    public override int GetHashCode() => HashCode.Combine(Layout, Keys.Length, Sum);
}

/// <summary>A histogram as it stands at a moment, counted since <paramref name="Start"/>.</summary>
/// <param name="Time">Epoch milliseconds.</param>
/// <param name="Value">All observations since the start.</param>
/// <param name="Start">Epoch milliseconds; 0 where the sender did not say.</param>
public sealed record HistogramSample(long Time, Histogram Value, long Start) : ITimed<HistogramSample>
{
    /// <inheritdoc/>
    public bool Agrees(HistogramSample other) => Value.Equals(other.Value);
}

/// <summary>What was added to a histogram in each slot.</summary>
public static class HistogramRise
{
    /// <summary>As <see cref="CounterRise.IntoSlots(ReadOnlySpan{Sample}, long, long, double[], double)"/>; the rise of a gap is its number of observations.</summary>
    /// <param name="samples">In order of time; may begin before <paramref name="from"/> and end after the last slot.</param>
    /// <param name="from">Start of the first slot (excluded), epoch milliseconds.</param>
    /// <param name="width">Width of a slot in milliseconds.</param>
    /// <param name="slots">Receives the observations of each slot; null where a slot has nothing.</param>
    /// <param name="interval">Collection interval in milliseconds.</param>
    public static List<CounterGap> IntoSlots(IReadOnlyList<HistogramSample> samples, long from, long width, Histogram?[] slots, double interval)
    {
        var gaps = new List<CounterGap>();
        for (var i = 0; i < samples.Count; i++)
        {
            var sample = samples[i];
            if (i == 0)
            {
                if (sample.Start > 0 && sample.Start < sample.Time && sample.Time - sample.Start <= CounterRise.FirstSampleReach)
                    Spread(sample.Start, sample.Time, sample.Value);
                continue;
            }
            var before = samples[i - 1];
            var rise = CounterRise.Anew(before.Time, sample.Start) ? sample.Value : sample.Value.Since(before.Value) ?? sample.Value;
            if (!CounterRise.Apart(before.Time, sample.Time, interval))
                Spread(before.Time, sample.Time, rise);
            else if (sample.Time > from && before.Time < from + width * slots.Length)
                gaps.Add(new CounterGap(before.Time, sample.Time, rise.Count));
        }
        return gaps;

        void Spread(long begin, long end, Histogram rise)
        {
            foreach (var (slot, share) in new SlotShares(begin, end, from, width, slots.Length))
            {
                var part = share < 1 ? rise.Times(share) : rise;
                slots[slot] = slots[slot] is { } there ? Histogram.Together(there, part) ?? there : part;
            }
        }
    }
}
