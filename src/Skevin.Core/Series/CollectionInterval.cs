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
        var middle = spacings.Length / 2;
        var upper = Select(spacings, middle);
        return spacings.Length % 2 == 1 ? upper : (spacings.Take(middle).Max() + upper) / 2.0;
    }

    // Hoare's selection (1961): the k-th least at its place, nothing greater before it. A sort costs ten times as much, and this is asked of every series.
    private static long Select(long[] values, int k)
    {
        var (low, high) = (0, values.Length - 1);
        while (low < high)
        {
            var (i, j, pivot) = (low, high, values[(low + high) / 2]);
            while (i <= j)
            {
                while (values[i] < pivot)
                    i++;
                while (values[j] > pivot)
                    j--;
                if (i > j)
                    break;
                (values[i], values[j]) = (values[j], values[i]);
                (i, j) = (i + 1, j - 1);
            }
            if (k <= j)
                high = j;
            else if (k >= i)
                low = i;
            else
                break;
        }
        return values[k];
    }
}
