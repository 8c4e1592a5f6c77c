namespace Skevin.Core.Series;

/// <summary>Samples of one series from several places.</summary>
public static class SampleRuns
{
    /// <summary>In order of time, each time once; of several for the same time the first given stays.</summary>
    public static Sample[] InOrder(List<Sample> samples)
    {
        for (var i = 1; i < samples.Count; i++)
            if (samples[i].Time <= samples[i - 1].Time)
                return [.. samples.OrderBy(sample => sample.Time).DistinctBy(sample => sample.Time)];
        return [.. samples];
    }
}
