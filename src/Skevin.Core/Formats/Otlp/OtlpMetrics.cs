using System.Globalization;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Metrics.V1;
using Skevin.Core.Series;
using Histogram = Skevin.Core.Series.Histogram;

namespace Skevin.Core.Formats.Otlp;

/// <summary>Points of one series as they came in, before it has a number.</summary>
public sealed record IncomingRun<T>(SeriesKey Key, List<T> Points)
{
    /// <summary>The expected source it was read from, where the sender named it.</summary>
    public string? Source { get; set; }
}

/// <summary>A request taken apart.</summary>
/// <param name="Samples">Numbers that can be stored, by series.</param>
/// <param name="Histograms">Histograms that can be stored, by series.</param>
/// <param name="Sources">By expected source, where the sender named it.</param>
/// <param name="Refused">Points that cannot be stored.</param>
public sealed record ReadMetrics(IReadOnlyList<IncomingRun<Sample>> Samples, IReadOnlyList<IncomingRun<HistogramSample>> Histograms, IReadOnlyList<SourceArrival> Sources, Refusals Refused);

/// <summary>Turns OTLP metrics into samples of series.</summary>
public static class OtlpMetrics
{
    /// <summary>Scope attribute by which Skevin's agents name the expected source the data came from.</summary>
    public const string SourceAttribute = "skevin.source";

    private const uint NoRecordedValue = 1;

    /// <summary>Reads all points of a request.</summary>
    /// <param name="request">The decoded request.</param>
    /// <param name="cluster">The token's cluster; it is the data's cluster whatever the sender says.</param>
    /// <param name="range">Stamps that are taken.</param>
    public static ReadMetrics Read(ExportMetricsServiceRequest request, string cluster, StampRange range)
    {
        var (samples, histograms) = (new List<IncomingRun<Sample>>(), new List<IncomingRun<HistogramSample>>());
        var sources = new SourceTally("metrics");
        var refused = new Refusals();
        foreach (var resource in request.ResourceMetrics)
        {
            var common = OtlpAttributes.Read(resource.Resource?.Attributes);
            common["k8s.cluster.name"] = cluster;
            // Most points have no attributes of their own: they share one set.
            var bare = Labels.From(common);
            foreach (var scope in resource.ScopeMetrics)
            {
                var before = (samples.Count, histograms.Count);
                foreach (var metric in scope.Metrics)
                    new Reading(metric, common, bare, range, refused, samples, histograms).Read();
                if (scope.Scope?.Attributes.Count > 0 && OtlpAttributes.Read(scope.Scope.Attributes).TryGetValue(SourceAttribute, out var source))
                {
                    Count(sources, source, samples, before.Item1);
                    Count(sources, source, histograms, before.Item2);
                }
            }
        }
        return new ReadMetrics(samples, histograms, sources.Arrivals, refused);
    }

    private static void Count<T>(SourceTally sources, string source, List<IncomingRun<T>> runs, int from) where T : ITimed<T>
    {
        for (var i = from; i < runs.Count; i++)
        {
            runs[i].Source = source;
            foreach (var point in runs[i].Points)
                sources.Count(source, point.Time);
        }
    }

    /// <summary>Reads the points of one metric of one resource.</summary>
    private sealed class Reading(
        Metric metric, Dictionary<string, string> common, Labels bare, StampRange range, Refusals refused, List<IncomingRun<Sample>> samples, List<IncomingRun<HistogramSample>> histograms)
    {
        private readonly int _first = samples.Count;
        private readonly int _firstHistogram = histograms.Count;

        public void Read()
        {
            if (metric.Name.Length == 0)
            {
                refused.Add("A metric has no name.", 1);
                return;
            }
            switch (metric.DataCase)
            {
                case Metric.DataOneofCase.Gauge:
                    foreach (var point in metric.Gauge.DataPoints)
                        Number(point, SeriesKind.Gauge);
                    break;
                case Metric.DataOneofCase.Sum when Temporality(metric.Sum.AggregationTemporality, metric.Sum.DataPoints.Count):
                    // What is sent as the rise since the last time is a counter that begins anew each time.
                    var kind = metric.Sum.IsMonotonic || metric.Sum.AggregationTemporality == AggregationTemporality.Delta ? SeriesKind.Counter : SeriesKind.Gauge;
                    foreach (var point in metric.Sum.DataPoints)
                        if (Begun(metric.Sum.AggregationTemporality, point.StartTimeUnixNano))
                            Number(point, kind);
                    break;
                case Metric.DataOneofCase.Summary:
                    foreach (var point in metric.Summary.DataPoints)
                        Summary(point);
                    break;
                case Metric.DataOneofCase.Histogram when Temporality(metric.Histogram.AggregationTemporality, metric.Histogram.DataPoints.Count):
                    foreach (var point in metric.Histogram.DataPoints)
                        if ((point.Flags & NoRecordedValue) == 0 && Begun(metric.Histogram.AggregationTemporality, point.StartTimeUnixNano))
                            Keep(OtlpHistograms.Of(point, out var why), why, point.Attributes, point.TimeUnixNano, point.StartTimeUnixNano);
                    break;
                case Metric.DataOneofCase.ExponentialHistogram when Temporality(metric.ExponentialHistogram.AggregationTemporality, metric.ExponentialHistogram.DataPoints.Count):
                    foreach (var point in metric.ExponentialHistogram.DataPoints)
                        if ((point.Flags & NoRecordedValue) == 0 && Begun(metric.ExponentialHistogram.AggregationTemporality, point.StartTimeUnixNano))
                            Keep(OtlpHistograms.Of(point, out var why), why, point.Attributes, point.TimeUnixNano, point.StartTimeUnixNano);
                    break;
                case Metric.DataOneofCase.None:
                    refused.Add("A metric has no data.", 1);
                    break;
            }
        }

        private bool Temporality(AggregationTemporality temporality, int points)
        {
            if (temporality != AggregationTemporality.Unspecified)
                return true;
            refused.Add("A sum or histogram does not say whether it is cumulative or delta.", points);
            return false;
        }

        private bool Begun(AggregationTemporality temporality, ulong start)
        {
            if (temporality == AggregationTemporality.Cumulative || start > 0)
                return true;
            refused.Add("A delta has no start time, so nothing tells which time it is for.");
            return false;
        }

        private void Number(NumberDataPoint point, SeriesKind kind)
        {
            if ((point.Flags & NoRecordedValue) != 0)
                return;
            var value = point.ValueCase switch
            {
                NumberDataPoint.ValueOneofCase.AsDouble => point.AsDouble,
                NumberDataPoint.ValueOneofCase.AsInt => point.AsInt,
                _ => double.NaN,
            };
            Keep(metric.Name, kind, metric.Unit, point.Attributes, null, point.TimeUnixNano, kind == SeriesKind.Counter ? point.StartTimeUnixNano : 0, value);
        }

        // "Summaries become gauges and counters": the quantiles as gauges, count and sum as counters.
        private void Summary(SummaryDataPoint point)
        {
            Keep(metric.Name + "_count", SeriesKind.Counter, "1", point.Attributes, null, point.TimeUnixNano, point.StartTimeUnixNano, point.Count);
            Keep(metric.Name + "_sum", SeriesKind.Counter, metric.Unit, point.Attributes, null, point.TimeUnixNano, point.StartTimeUnixNano, point.Sum);
            foreach (var quantile in point.QuantileValues)
                Keep(metric.Name, SeriesKind.Gauge, metric.Unit, point.Attributes,
                    new("quantile", quantile.Quantile.ToString("R", CultureInfo.InvariantCulture)), point.TimeUnixNano, 0, quantile.Value);
        }

        private void Keep(string name, SeriesKind kind, string unit, IReadOnlyCollection<KeyValue> attributes, KeyValuePair<string, string>? extra, ulong time, ulong start, double value)
        {
            if (double.IsNaN(value))
                refused.Add("A value is not a number.", 1);
            else if (Taken(time) is { } at)
                RunOf(samples, _first, name, kind, unit, attributes, extra).Points.Add(new Sample(at, value, (long)(start / 1_000_000)));
        }

        private void Keep(Histogram? value, string why, IReadOnlyCollection<KeyValue> attributes, ulong time, ulong start)
        {
            if (value is null)
                refused.Add(why);
            else if (Taken(time) is { } at)
                RunOf(histograms, _firstHistogram, metric.Name, SeriesKind.Histogram, metric.Unit, attributes, null).Points.Add(new HistogramSample(at, value, (long)(start / 1_000_000)));
        }

        private long? Taken(ulong time)
        {
            var at = (long)(time / 1_000_000);
            if (range.Refuses(at) is not { } why)
                return at;
            refused.Add(why);
            return null;
        }

        // Points of a series stand together, so the run before is most likely theirs.
        private IncomingRun<T> RunOf<T>(List<IncomingRun<T>> runs, int first, string name, SeriesKind kind, string unit, IReadOnlyCollection<KeyValue> attributes, KeyValuePair<string, string>? extra)
        {
            var labels = extra is null && attributes.Count == 0 ? bare : Labels.From(extra is { } more
                ? common.Concat(OtlpAttributes.Read(attributes)).Append(more)
                : common.Concat(OtlpAttributes.Read(attributes)));
            if (runs.Count > first && runs[^1].Key is var last && ReferenceEquals(last.Metric, name) && last.Labels.Equals(labels))
                return runs[^1];
            runs.Add(new IncomingRun<T>(new SeriesKey(name, kind, unit, labels), []));
            return runs[^1];
        }
    }
}
