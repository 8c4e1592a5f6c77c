using OpenTelemetry.Proto.Metrics.V1;
using Skevin.Core.Formats.OpenMetrics;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Agent.Collection;

/// <summary>OpenMetrics families as OTLP metrics. Source: OpenTelemetry specification, compatibility of the text exposition.</summary>
public static class Exposition
{
    /// <summary>Adds what an endpoint gave.</summary>
    public static void Read(OpenMetricsReading reading, IReadOnlyList<KeyValuePair<string, string>> resource, MetricsBuilder into)
    {
        foreach (var family in reading.Families)
            Add(family, resource, into);
    }

    private static void Add(OpenMetricsFamily family, IReadOnlyList<KeyValuePair<string, string>> resource, MetricsBuilder into)
    {
        var unit = Ucum(family.Unit, family.Name);
        switch (family.Type)
        {
            case FamilyType.Counter:
                var created = family.Samples.Where(sample => sample.Suffix == "_created").GroupBy(sample => Key(sample, "")).ToDictionary(same => same.Key, same => same.First().Value);
                foreach (var sample in family.Samples.Where(sample => sample.Suffix is "_total" or ""))
                    into.Counter(resource, family.Name, unit, sample.Value, created.TryGetValue(Key(sample, ""), out var at) ? DateTimeOffset.FromUnixTimeMilliseconds((long)(at * 1000)) : null, [.. sample.Labels]);
                break;
            case FamilyType.Summary:
                Summaries(family, unit, resource, into);
                break;
            case FamilyType.Histogram:
                Histograms(family, unit, resource, into);
                break;
            case FamilyType.Info:
                foreach (var sample in family.Samples)
                    into.Gauge(resource, family.Name + "_info", "1", sample.Value, [.. sample.Labels]);
                break;
            default:
                foreach (var sample in family.Samples)
                    into.Gauge(resource, family.Name + sample.Suffix, unit, sample.Value, [.. sample.Labels]);
                break;
        }
    }

    private static void Summaries(OpenMetricsFamily family, string unit, IReadOnlyList<KeyValuePair<string, string>> resource, MetricsBuilder into)
    {
        var metric = new Metric { Name = family.Name, Unit = unit, Summary = new Summary() };
        foreach (var group in family.Samples.GroupBy(sample => Key(sample, "quantile")))
        {
            var point = new SummaryDataPoint { TimeUnixNano = into.Stamp };
            OtlpAttributes.Write(point.Attributes, group.First().Labels.Where(label => label.Key != "quantile"));
            foreach (var sample in group)
                switch (sample.Suffix)
                {
                    case "_count":
                        point.Count = (ulong)sample.Value;
                        break;
                    case "_sum":
                        point.Sum = sample.Value;
                        break;
                    case "_created":
                        point.StartTimeUnixNano = (ulong)(sample.Value * 1e9);
                        break;
                    case "" when Label(sample, "quantile") is { } quantile && double.IsFinite(sample.Value):
                        point.QuantileValues.Add(new SummaryDataPoint.Types.ValueAtQuantile
                        {
                            Quantile = double.Parse(quantile, System.Globalization.CultureInfo.InvariantCulture),
                            Value = sample.Value,
                        });
                        break;
                }
            metric.Summary.DataPoints.Add(point);
        }
        into.Add(resource, metric, metric.Summary.DataPoints.Sum(point => point.QuantileValues.Count + 2));
    }

    private static void Histograms(OpenMetricsFamily family, string unit, IReadOnlyList<KeyValuePair<string, string>> resource, MetricsBuilder into)
    {
        var metric = new Metric
        {
            Name = family.Name,
            Unit = unit,
            Histogram = new Histogram { AggregationTemporality = AggregationTemporality.Cumulative },
        };
        foreach (var group in family.Samples.GroupBy(sample => Key(sample, "le")))
        {
            var point = new HistogramDataPoint { TimeUnixNano = into.Stamp };
            OtlpAttributes.Write(point.Attributes, group.First().Labels.Where(label => label.Key != "le"));
            var before = 0.0;
            foreach (var (bound, value) in group.Where(sample => sample.Suffix == "_bucket")
                .Select(sample => (Bound: Bound(Label(sample, "le")), sample.Value)).OrderBy(pair => pair.Bound))
            {
                if (double.IsFinite(bound))
                    point.ExplicitBounds.Add(bound);
                point.BucketCounts.Add((ulong)Math.Max(0, value - before));
                before = value;
            }
            point.Count = (ulong)before;
            if (group.FirstOrDefault(sample => sample.Suffix == "_created") is { } created)
                point.StartTimeUnixNano = (ulong)(created.Value * 1e9);
            if (group.FirstOrDefault(sample => sample.Suffix == "_sum") is { } sum)
                point.Sum = sum.Value;
            metric.Histogram.DataPoints.Add(point);
        }
        into.Add(resource, metric, metric.Histogram.DataPoints.Count);
    }

    private static double Bound(string? le) =>
        le is "+Inf" or null ? double.PositiveInfinity : double.Parse(le, System.Globalization.CultureInfo.InvariantCulture);

    private static string Key(OpenMetricsSample sample, string without) =>
        string.Join('\0', sample.Labels.Where(label => label.Key != without).Select(label => label.Key + "=" + label.Value));

    private static string? Label(OpenMetricsSample sample, string name) => sample.Labels.FirstOrDefault(label => label.Key == name).Value;

    // The exposition names base units in words, at the end of a name or as # UNIT.
    private static string Ucum(string unit, string name)
    {
        // In the older form a counter's name ends in _total, behind the unit.
        var bare = name.EndsWith("_total", StringComparison.Ordinal) ? name[..^"_total".Length] : name;
        var word = unit.Length > 0 ? unit : bare[(bare.LastIndexOf('_') + 1)..];
        return word switch { "seconds" => "s", "bytes" => "By", "ratio" => "1", "celsius" => "Cel", "meters" => "m", "joules" => "J", _ => "1" };
    }
}
