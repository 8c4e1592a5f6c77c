namespace Skevin.Core.Series;

/// <summary>How often a series is collected, read off its samples.</summary>
public static class CollectionInterval
{
    /// <summary>Assumed where there are too few samples to tell, in milliseconds.</summary>
    public const double Assumed = 60_000;

    /// <summary>The median spacing of the samples in milliseconds; <see cref="Assumed"/> below three samples.</summary>
    public static double Of(ReadOnlySpan<Sample> samples)
    {
        if (samples.Length < 3)
            return Assumed;
        var spacings = new long[samples.Length - 1];
        for (var i = 1; i < samples.Length; i++)
            spacings[i - 1] = samples[i].Time - samples[i - 1].Time;
        Array.Sort(spacings);
        var middle = spacings.Length / 2;
        return spacings.Length % 2 == 1 ? spacings[middle] : (spacings[middle - 1] + spacings[middle]) / 2.0;
    }
}
