using Skevin.Core.Collection;

namespace Skevin.Core.Diagnosis;

/// <summary>A label of a metric has so many values that it must hold an id: each makes a series that is never used again.</summary>
public static class LabelExplosion
{
    /// <summary>One trouble a metric.</summary>
    public static IEnumerable<Trouble> Find(IEnumerable<MetricCost> metrics) => metrics.Where(metric => metric.Explodes).Select(metric => new Trouble(
        $"label {metric.Label} of {metric.Metric} explodes",
        $"{metric.Metric} has {metric.Series:N0} series; its label {metric.Label} alone has {metric.Values:N0} values, as an id has. Each value is a series to be stored and searched, and there will be more.",
        $"Take the label off: {metric.SeriesWithout:N0} series are left, and sums stay what they are. Then tell the workload's owner.",
        TroublePlace.Trimming,
        [$"{metric.Series:N0} series, {metric.SamplesPerSecond:0.#} samples a second", $"label {metric.Label}: {metric.Values:N0} values; {metric.SeriesWithout:N0} series without it"]));
}
