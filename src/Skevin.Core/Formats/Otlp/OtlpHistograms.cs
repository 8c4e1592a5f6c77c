using OpenTelemetry.Proto.Metrics.V1;
using Skevin.Core.Series;
using Histogram = Skevin.Core.Series.Histogram;

namespace Skevin.Core.Formats.Otlp;

/// <summary>Turns OTLP's histogram points into histograms. Source: OpenTelemetry metrics data model, "Histogram" and "ExponentialHistogram".</summary>
internal static class OtlpHistograms
{
    private const int MostBuckets = 4096;
    private const int LeastScale = -10;
    private const int GreatestScale = 20;

    /// <summary>Reads a point of given bounds.</summary>
    /// <param name="why">Why it cannot be kept, where it cannot.</param>
    public static Histogram? Of(HistogramDataPoint point, out string why)
    {
        why = "";
        var (bounds, counts) = (point.ExplicitBounds, point.BucketCounts);
        if (bounds.Count >= MostBuckets)
            why = $"A histogram has more than {MostBuckets} buckets.";
        else if (counts.Count == 0 && bounds.Count > 0 || counts.Count > 0 && counts.Count != bounds.Count + 1)
            why = "A histogram has bounds and buckets that do not belong together: there must be one bucket more.";
        else if (bounds.Any(double.IsNaN) || bounds.Zip(bounds.Skip(1)).Any(pair => pair.First >= pair.Second))
            why = "The bounds of a histogram do not rise.";
        if (why.Length > 0)
            return null;
        // Without buckets there is one that holds everything.
        var buckets = counts.Count > 0 ? counts.Index().Where(pair => pair.Item > 0).Select(pair => ((long)pair.Index, (double)pair.Item)) : point.Count > 0 ? [(0L, (double)point.Count)] : [];
        return Made(new ExplicitBuckets([.. bounds]), buckets, point.Sum);
    }

    /// <summary>Reads a point of exponential buckets.</summary>
    /// <param name="why">Why it cannot be kept, where it cannot.</param>
    public static Histogram? Of(ExponentialHistogramDataPoint point, out string why)
    {
        var (below, above) = (point.Negative, point.Positive);
        why = point.Scale is < LeastScale or > GreatestScale ? $"The scale of an exponential histogram is not within {LeastScale} to {GreatestScale}."
            : (below?.BucketCounts.Count ?? 0) + (above?.BucketCounts.Count ?? 0) > MostBuckets ? $"A histogram has more than {MostBuckets} buckets."
            : "";
        if (why.Length > 0)
            return null;
        var buckets = Buckets(below, true).Reverse().Append((ExponentialBuckets.Zero, point.ZeroCount)).Concat(Buckets(above, false)).Where(pair => pair.Item2 > 0);
        return Made(new ExponentialBuckets(point.Scale, point.ZeroThreshold), buckets.Select(pair => (pair.Item1, (double)pair.Item2)), point.Sum);
    }

    private static IEnumerable<(long, ulong)> Buckets(ExponentialHistogramDataPoint.Types.Buckets? side, bool negative) =>
        side is null ? [] : side.BucketCounts.Index().Select(pair => (ExponentialBuckets.Key(side.Offset + pair.Index, negative), pair.Item));

    private static Histogram Made(BucketLayout layout, IEnumerable<(long Key, double Count)> buckets, double sum)
    {
        (long Key, double Count)[] held = [.. buckets];
        return new Histogram(layout, [.. held.Select(bucket => bucket.Key)], [.. held.Select(bucket => bucket.Count)], double.IsFinite(sum) ? sum : 0);
    }
}
