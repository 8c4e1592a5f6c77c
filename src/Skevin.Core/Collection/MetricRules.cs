using Skevin.Core.Formats.OpenMetrics;

namespace Skevin.Core.Collection;

/// <summary>What is done to a metric before it is sent.</summary>
/// <param name="Metric">Its name; a <c>*</c> at the end stands for any rest.</param>
/// <param name="LeaveOut">It is not sent at all.</param>
/// <param name="WithoutLabels">Labels taken off what application endpoints give; series that become alike are added up.</param>
/// <param name="As">The name it is sent under instead.</param>
public sealed record MetricRule(string Metric, bool LeaveOut = false, IReadOnlyList<string>? WithoutLabels = null, string? As = null)
{
    /// <summary>Whether it is about a metric.</summary>
    public bool IsAbout(string metric) => Metric.EndsWith('*') ? metric.StartsWith(Metric[..^1], StringComparison.Ordinal) : Metric == metric;

    /// <summary>What is wrong with it, or null.</summary>
    public string? Problem => Metric.TrimEnd('*').Length == 0 ? "A rule names a metric; '*' alone would leave out all of them. Switch the source off instead."
        : !LeaveOut && WithoutLabels is not { Count: > 0 } && string.IsNullOrWhiteSpace(As) ? $"The rule of {Metric} changes nothing: leave it out, take a label off, or give it another name."
        : As is not null && Metric.EndsWith('*') ? $"{Metric} stands for several metrics, which cannot all be sent as {As}." : null;

    /// <summary>What it does, in words.</summary>
    public string Words => LeaveOut ? $"{Metric} left out"
        : string.Join(", ", new[] { WithoutLabels is { Count: > 0 } labels ? $"{Metric} without {string.Join(", ", labels)}" : null, As is { } name ? $"{Metric} as {name}" : null }.OfType<string>());
}

/// <summary>Lines that are not sent.</summary>
/// <param name="Workload">Of which workload, <c>namespace/name</c>; empty for any.</param>
/// <param name="Kind">Their kind, as <c>kinds</c> gives it: <c>{}</c> stands for what varies.</param>
public sealed record LineRule(string Workload, string Kind)
{
    /// <summary>What it does, in words.</summary>
    public string Words => $"lines of {(Workload.Length > 0 ? Workload : "any workload")} left out: {Kind}";
}

/// <summary>Applies metric rules to what an endpoint gives.</summary>
public static class MetricRules
{
    /// <summary>The first rule about a metric, or null.</summary>
    public static MetricRule? For(string metric, IReadOnlyList<MetricRule>? rules) => rules?.FirstOrDefault(rule => rule.IsAbout(metric));

    /// <summary>
    /// What is left of a reading. Where a label is taken off, counters, gauges and buckets that become alike are added up, the earliest creation counts; quantiles a sender
    /// computed cannot be added up and are left out where several fall together.
    /// </summary>
    public static OpenMetricsReading Apply(OpenMetricsReading reading, IReadOnlyList<MetricRule>? rules) => rules is not { Count: > 0 } ? reading
        : reading with { Families = [.. reading.Families.Select(family => Apply(family, For(family.Name, rules))).OfType<OpenMetricsFamily>()] };

    private static OpenMetricsFamily? Apply(OpenMetricsFamily family, MetricRule? rule)
    {
        if (rule is null)
            return family;
        if (rule.LeaveOut)
            return null;
        var renamed = rule.As is { } name ? family with { Name = name } : family;
        return rule.WithoutLabels is { Count: > 0 } labels ? renamed with { Samples = [.. Joined(family, labels)] } : renamed;
    }

    private static IEnumerable<OpenMetricsSample> Joined(OpenMetricsFamily family, IReadOnlyList<string> without) =>
        family.Samples.Select(sample => sample with { Labels = [.. sample.Labels.Where(label => !without.Contains(label.Key))] })
            .GroupBy(sample => (sample.Suffix, Set: string.Join('\0', sample.Labels.OrderBy(label => label.Key, StringComparer.Ordinal).Select(label => label.Key + "\u0001" + label.Value))))
            .Where(same => same.Count() == 1 || !(family.Type == FamilyType.Summary && same.Key.Suffix.Length == 0))
            .Select(same => same.First() with { Value = same.Key.Suffix == "_created" ? same.Min(sample => sample.Value) : same.Sum(sample => sample.Value) });
}
