using System.Globalization;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Metrics.V1;
using Skevin.Core.Series;

namespace Skevin.Core.Formats.Otlp;

/// <summary>A sample as it came in, before its series has a number.</summary>
public readonly record struct IncomingSample(SeriesKey Key, Sample Sample);

/// <summary>A request taken apart.</summary>
/// <param name="Samples">What can be stored.</param>
/// <param name="Sources">By expected source, where the sender named it.</param>
/// <param name="Refused">Points that cannot be stored.</param>
public sealed record ReadMetrics(IReadOnlyList<IncomingSample> Samples, IReadOnlyList<SourceArrival> Sources, Refusals Refused);

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
        var samples = new List<IncomingSample>();
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
                var before = samples.Count;
                foreach (var metric in scope.Metrics)
                    Add(metric, common, bare, range, samples, refused);
                if (OtlpAttributes.Read(scope.Scope?.Attributes).TryGetValue(SourceAttribute, out var source))
                    foreach (var sample in samples.Skip(before))
                        sources.Count(source, sample.Sample.Time);
            }
        }
        return new ReadMetrics(samples, sources.Arrivals, refused);
    }

    private static void Add(
        Metric metric, Dictionary<string, string> common, Labels bare, StampRange range, List<IncomingSample> samples, Refusals refused)
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
                    AddNumber(point, SeriesKind.Gauge);
                break;
            case Metric.DataOneofCase.Sum when metric.Sum.AggregationTemporality != AggregationTemporality.Cumulative:
                refused.Add("Only cumulative sums are kept; set the sender's temporality to cumulative.", metric.Sum.DataPoints.Count);
                break;
            case Metric.DataOneofCase.Sum:
                var kind = metric.Sum.IsMonotonic ? SeriesKind.Counter : SeriesKind.Gauge;
                foreach (var point in metric.Sum.DataPoints)
                    AddNumber(point, kind);
                break;
            case Metric.DataOneofCase.Summary:
                foreach (var point in metric.Summary.DataPoints)
                    AddSummary(point);
                break;
            case Metric.DataOneofCase.Histogram:
                refused.Add("Histograms are not kept yet.", metric.Histogram.DataPoints.Count);
                break;
            case Metric.DataOneofCase.ExponentialHistogram:
                refused.Add("Histograms are not kept yet.", metric.ExponentialHistogram.DataPoints.Count);
                break;
            default:
                refused.Add("A metric has no data.", 1);
                break;
        }

        void AddNumber(NumberDataPoint point, SeriesKind seriesKind)
        {
            if ((point.Flags & NoRecordedValue) != 0)
                return;
            var value = point.ValueCase switch
            {
                NumberDataPoint.ValueOneofCase.AsDouble => point.AsDouble,
                NumberDataPoint.ValueOneofCase.AsInt => point.AsInt,
                _ => double.NaN,
            };
            Store(metric.Name, seriesKind, metric.Unit, point.Attributes, null,
                point.TimeUnixNano, seriesKind == SeriesKind.Counter ? point.StartTimeUnixNano : 0, value);
        }

        // "Summaries become gauges and counters": the quantiles as gauges, count and sum as counters.
        void AddSummary(SummaryDataPoint point)
        {
            Store(metric.Name + "_count", SeriesKind.Counter, "1", point.Attributes, null,
                point.TimeUnixNano, point.StartTimeUnixNano, point.Count);
            Store(metric.Name + "_sum", SeriesKind.Counter, metric.Unit, point.Attributes, null,
                point.TimeUnixNano, point.StartTimeUnixNano, point.Sum);
            foreach (var quantile in point.QuantileValues)
                Store(metric.Name, SeriesKind.Gauge, metric.Unit, point.Attributes,
                    new("quantile", quantile.Quantile.ToString("R", CultureInfo.InvariantCulture)),
                    point.TimeUnixNano, 0, quantile.Value);
        }

        void Store(
            string name, SeriesKind seriesKind, string unit, IReadOnlyCollection<KeyValue> attributes,
            KeyValuePair<string, string>? extra, ulong time, ulong start, double value)
        {
            var at = (long)(time / 1_000_000);
            if (range.Refuses(at) is { } why)
                refused.Add(why);
            else if (double.IsNaN(value))
                refused.Add("A value is not a number.", 1);
            else
            {
                var labels = extra is null && attributes.Count == 0 ? bare : Labels.From(extra is { } more
                    ? common.Concat(OtlpAttributes.Read(attributes)).Append(more)
                    : common.Concat(OtlpAttributes.Read(attributes)));
                samples.Add(new IncomingSample(
                    new SeriesKey(name, seriesKind, unit, labels), new Sample(at, value, (long)(start / 1_000_000))));
            }
        }
    }
}
