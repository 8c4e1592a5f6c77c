using Skevin.Core.Series;

namespace Skevin.Core.Collection;

/// <summary>What a metric costs, and what would be lost without it.</summary>
/// <param name="Series">Series that had a sample lately.</param>
/// <param name="SamplesPerSecond">Samples stored a second.</param>
/// <param name="Label">The label that makes the most of its series; null where none makes any.</param>
/// <param name="Values">How many values that label has.</param>
/// <param name="SeriesWithout">How many series there would be without it.</param>
/// <param name="Explodes">Whether that label has many values and makes most of the series: such labels mostly hold an id, and grow without end.</param>
/// <param name="UsedBy">Sheets and alert rules that ask for it.</param>
/// <param name="LastAsked">When a person asked for it last; null for never.</param>
public sealed record MetricCost(
    string Metric, int Series, double SamplesPerSecond, string? Label, int Values, int SeriesWithout, bool Explodes, IReadOnlyList<string> UsedBy, DateTimeOffset? LastAsked);

/// <summary>What a kind of log line costs.</summary>
/// <param name="Workload">namespace/name.</param>
/// <param name="Kind">Its template.</param>
/// <param name="LinesPerSecond">Lines stored a second.</param>
/// <param name="Share">Of all lines, 0 to 1.</param>
/// <param name="Example">The newest of them.</param>
public sealed record LineCost(string Workload, string Kind, double LinesPerSecond, double Share, string Example);

/// <summary>Finds what costs more than it tells.</summary>
public static class Trimming
{
    /// <summary>From so many values on a label that makes most of the series is taken for an id.</summary>
    public const int ManyValues = 50;

    private static readonly string[] OfResources = ["k8s.", "service.", "container.", "host."];

    /// <summary>Costs of metrics, the dearest first.</summary>
    /// <param name="alive">Series that had samples lately, with samples a second, and whether an application's endpoint gave them: only there can a label be taken off.</param>
    /// <param name="usedBy">Names of sheets and rules by metric.</param>
    /// <param name="asked">When each metric was asked for last.</param>
    public static IReadOnlyList<MetricCost> Metrics(IEnumerable<(SeriesKey Key, double PerSecond, bool OfEndpoint)> alive, ILookup<string, string> usedBy, IReadOnlyDictionary<string, DateTimeOffset> asked) =>
    [
        .. alive.GroupBy(one => one.Key.Metric).Select(metric =>
        {
            var sets = metric.Select(one => one.Key.Labels).ToArray();
            // Labels of the resource say which pod or node it is; only what the sender put on the points can be taken off.
            var worst = metric.Any(one => !one.OfEndpoint) ? default : sets.SelectMany(set => set.Select(pair => pair.Key)).Distinct().Where(key => !OfResources.Any(prefix => key.StartsWith(prefix, StringComparison.Ordinal)))
                .Select(key => (Key: key, Values: sets.Select(set => set[key]).OfType<string>().Distinct().Count(), Without: Without(sets, key)))
                .Where(one => one.Without < sets.Length).OrderBy(one => one.Without).ThenBy(one => one.Key, StringComparer.Ordinal).FirstOrDefault();
            return new MetricCost(metric.Key, sets.Length, metric.Sum(one => one.PerSecond), worst.Key, worst.Values, worst.Key is null ? sets.Length : worst.Without,
                worst.Values >= ManyValues && worst.Without * 2 <= sets.Length, [.. usedBy[metric.Key].Distinct().Order(StringComparer.Ordinal)], asked.TryGetValue(metric.Key, out var at) ? at : null);
        }).OrderByDescending(cost => cost.Series).ThenBy(cost => cost.Metric, StringComparer.Ordinal),
    ];

    private static int Without(Labels[] sets, string key) => sets.Select(set => Labels.From(set.Where(pair => pair.Key != key))).Distinct().Count();
}
