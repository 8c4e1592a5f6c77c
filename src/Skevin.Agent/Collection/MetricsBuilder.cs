using Google.Protobuf.Collections;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Metrics.V1;
using OpenTelemetry.Proto.Resource.V1;
using Skevin.Core.Collection;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Agent.Collection;

/// <summary>What one source gave in one pass: resources with their metrics, all stamped with the time of the pass.</summary>
public sealed class MetricsBuilder(string source, DateTimeOffset time)
{
    private readonly Dictionary<string, (ResourceMetrics Resource, Dictionary<string, Metric> Metrics)> _resources = [];
    private readonly ulong _time = Nanoseconds(time);

    /// <summary>The source's name.</summary>
    public string Source => source;

    /// <summary>Points so far.</summary>
    public int Points { get; private set; }

    /// <summary>The resources, ready to be sent.</summary>
    public IEnumerable<ResourceMetrics> Resources => _resources.Values.Select(pair => pair.Resource);

    /// <summary>Adds a value that stands for itself.</summary>
    public void Gauge(IReadOnlyList<KeyValuePair<string, string>> resource, string name, string unit, double value, params KeyValuePair<string, string>[] attributes)
    {
        var metric = MetricOf(resource, name, unit, () => new Metric { Name = name, Unit = unit, Gauge = new Gauge() });
        metric.Gauge.DataPoints.Add(Point(value, attributes, null));
    }

    /// <summary>Adds a cumulative sum that only rises.</summary>
    public void Counter(
        IReadOnlyList<KeyValuePair<string, string>> resource, string name, string unit, double value, DateTimeOffset? start,
        params KeyValuePair<string, string>[] attributes)
    {
        var metric = MetricOf(resource, name, unit, () => new Metric
        {
            Name = name,
            Unit = unit,
            Sum = new Sum { IsMonotonic = true, AggregationTemporality = AggregationTemporality.Cumulative },
        });
        metric.Sum.DataPoints.Add(Point(value, attributes, start));
    }

    /// <summary>Adds a metric that was built elsewhere; its points get this pass's time where they have none.</summary>
    public void Add(IReadOnlyList<KeyValuePair<string, string>> resource, Metric built, int points)
    {
        MetricOf(resource, built.Name, built.Unit, () => built);
        Points += points;
    }

    /// <summary>Takes out what the plan leaves out.</summary>
    public void LeaveOut(IReadOnlyList<MetricRule>? rules)
    {
        if (rules is not { Count: > 0 })
            return;
        foreach (var (resource, metrics) in _resources.Values)
            foreach (var (key, metric) in metrics.Where(pair => MetricRules.For(pair.Value.Name, rules) is { LeaveOut: true }).ToArray())
            {
                metrics.Remove(key);
                resource.ScopeMetrics[0].Metrics.Remove(metric);
                Points -= (metric.Gauge?.DataPoints.Count ?? 0) + (metric.Sum?.DataPoints.Count ?? 0);
            }
    }

    /// <summary>The stamp of this pass.</summary>
    public ulong Stamp => _time;

    /// <summary>Nanoseconds since the epoch.</summary>
    public static ulong Nanoseconds(DateTimeOffset time) => (ulong)time.ToUnixTimeMilliseconds() * 1_000_000;

    private NumberDataPoint Point(double value, KeyValuePair<string, string>[] attributes, DateTimeOffset? start)
    {
        Points++;
        var point = new NumberDataPoint { TimeUnixNano = _time, AsDouble = value };
        if (start is { } begun)
            point.StartTimeUnixNano = Nanoseconds(begun);
        OtlpAttributes.Write(point.Attributes, attributes);
        return point;
    }

    private Metric MetricOf(IReadOnlyList<KeyValuePair<string, string>> resource, string name, string unit, Func<Metric> make)
    {
        var key = string.Join('\0', resource.Select(pair => pair.Key + "=" + pair.Value));
        if (!_resources.TryGetValue(key, out var entry))
        {
            var made = new ResourceMetrics { Resource = new Resource() };
            OtlpAttributes.Write(made.Resource.Attributes, resource);
            var scope = new ScopeMetrics { Scope = new InstrumentationScope { Name = "skevin.agent" } };
            OtlpAttributes.Write(scope.Scope.Attributes, [new(OtlpMetrics.SourceAttribute, source)]);
            made.ScopeMetrics.Add(scope);
            _resources[key] = entry = (made, []);
        }
        if (!entry.Metrics.TryGetValue(name + "\0" + unit, out var metric))
        {
            entry.Metrics[name + "\0" + unit] = metric = make();
            entry.Resource.ScopeMetrics[0].Metrics.Add(metric);
        }
        return metric;
    }

    /// <summary>One request from several sources.</summary>
    public static ExportMetricsServiceRequest Request(IEnumerable<MetricsBuilder> builders)
    {
        var request = new ExportMetricsServiceRequest();
        foreach (var builder in builders)
            request.ResourceMetrics.AddRange(builder.Resources);
        return request;
    }
}
