using System.Globalization;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Metrics.V1;
using Skevin.Core.Series;

namespace Skevin.Core.Formats.Otlp;

/// <summary>A sample as it came in, before its series has a number.</summary>
public readonly record struct IncomingSample(SeriesKey Key, Sample Sample);

/// <summary>What one expected source contributed to a request.</summary>
/// <param name="Source">The source's name as the agent gave it.</param>
/// <param name="Times">Distinct sample times, epoch milliseconds.</param>
/// <param name="Samples">How many samples.</param>
public sealed record SourceArrival(string Source, IReadOnlyCollection<long> Times, int Samples);

/// <summary>A request taken apart.</summary>
/// <param name="Samples">What can be stored.</param>
/// <param name="Sources">By expected source, where the sender named it.</param>
/// <param name="Rejected">Points that cannot be stored.</param>
/// <param name="Why">Why, one sentence a kind of fault.</param>
public sealed record ReadMetrics(
    IReadOnlyList<IncomingSample> Samples, IReadOnlyList<SourceArrival> Sources, int Rejected, string Why);

/// <summary>Turns OTLP metrics into samples of series.</summary>
public static class OtlpMetrics
{
    /// <summary>Scope attribute by which Skevin's agents name the expected source the data came from.</summary>
    public const string SourceAttribute = "skevin.source";

    private const uint NoRecordedValue = 1;

    /// <summary>Reads all points of a request.</summary>
    /// <param name="request">The decoded request.</param>
    /// <param name="cluster">The token's cluster; it is the data's cluster whatever the sender says.</param>
    /// <param name="oldest">Earlier stamps are refused, epoch milliseconds.</param>
    /// <param name="newest">Later stamps are refused.</param>
    public static ReadMetrics Read(ExportMetricsServiceRequest request, string cluster, long oldest, long newest)
    {
        var samples = new List<IncomingSample>();
        var sources = new Dictionary<string, (HashSet<long> Times, int Samples)>();
        var refused = new SortedDictionary<string, int>(StringComparer.Ordinal);
        foreach (var resource in request.ResourceMetrics)
        {
            var common = Attributes(resource.Resource?.Attributes);
            common["k8s.cluster.name"] = cluster;
            foreach (var scope in resource.ScopeMetrics)
            {
                var before = samples.Count;
                foreach (var metric in scope.Metrics)
                    Add(metric, common, oldest, newest, samples, refused);
                if (Attributes(scope.Scope?.Attributes).TryGetValue(SourceAttribute, out var source) && samples.Count > before)
                {
                    var (times, count) = sources.GetValueOrDefault(source, ([], 0));
                    for (var i = before; i < samples.Count; i++)
                        times.Add(samples[i].Sample.Time);
                    sources[source] = (times, count + samples.Count - before);
                }
            }
        }
        return new ReadMetrics(
            samples,
            [.. sources.Select(pair => new SourceArrival(pair.Key, pair.Value.Times, pair.Value.Samples))],
            refused.Values.Sum(),
            string.Join(" ", refused.Select(pair => $"{pair.Key} ({pair.Value})")));
    }

    private static void Add(
        Metric metric, Dictionary<string, string> common, long oldest, long newest,
        List<IncomingSample> samples, SortedDictionary<string, int> refused)
    {
        void Refuse(string why, int count) => refused[why] = refused.GetValueOrDefault(why) + count;
        if (metric.Name.Length == 0)
        {
            Refuse("A metric has no name.", 1);
            return;
        }
        switch (metric.DataCase)
        {
            case Metric.DataOneofCase.Gauge:
                foreach (var point in metric.Gauge.DataPoints)
                    AddNumber(point, SeriesKind.Gauge);
                break;
            case Metric.DataOneofCase.Sum when metric.Sum.AggregationTemporality != AggregationTemporality.Cumulative:
                Refuse("Only cumulative sums are kept; set the sender's temporality to cumulative.", metric.Sum.DataPoints.Count);
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
                Refuse("Histograms are not kept yet.", metric.Histogram.DataPoints.Count);
                break;
            case Metric.DataOneofCase.ExponentialHistogram:
                Refuse("Histograms are not kept yet.", metric.ExponentialHistogram.DataPoints.Count);
                break;
            default:
                Refuse("A metric has no data.", 1);
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
            string name, SeriesKind seriesKind, string unit, IEnumerable<KeyValue> attributes,
            KeyValuePair<string, string>? extra, ulong time, ulong start, double value)
        {
            var at = (long)(time / 1_000_000);
            if (at < oldest)
                Refuse("A stamp is older than the retention.", 1);
            else if (at > newest)
                Refuse("A stamp lies more than 10 min ahead of the server's clock.", 1);
            else if (double.IsNaN(value))
                Refuse("A value is not a number.", 1);
            else
            {
                var labels = Labels.From(extra is { } more
                    ? common.Concat(Attributes(attributes)).Append(more)
                    : common.Concat(Attributes(attributes)));
                samples.Add(new IncomingSample(
                    new SeriesKey(name, seriesKind, unit, labels), new Sample(at, value, (long)(start / 1_000_000))));
            }
        }
    }

    /// <summary>Attributes as text; nested values as JSON-like text.</summary>
    public static Dictionary<string, string> Attributes(IEnumerable<KeyValue>? attributes)
    {
        var map = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (var pair in attributes ?? [])
            if (pair.Key.Length > 0)
                map[pair.Key] = Text(pair.Value);
        return map;
    }

    private static string Text(AnyValue? value) => value?.ValueCase switch
    {
        AnyValue.ValueOneofCase.StringValue => value.StringValue,
        AnyValue.ValueOneofCase.BoolValue => value.BoolValue ? "true" : "false",
        AnyValue.ValueOneofCase.IntValue => value.IntValue.ToString(CultureInfo.InvariantCulture),
        AnyValue.ValueOneofCase.DoubleValue => value.DoubleValue.ToString("R", CultureInfo.InvariantCulture),
        AnyValue.ValueOneofCase.BytesValue => value.BytesValue.ToBase64(),
        AnyValue.ValueOneofCase.ArrayValue => "[" + string.Join(",", value.ArrayValue.Values.Select(Text)) + "]",
        AnyValue.ValueOneofCase.KvlistValue =>
            "{" + string.Join(",", value.KvlistValue.Values.Select(pair => pair.Key + ":" + Text(pair.Value))) + "}",
        _ => "",
    };
}
