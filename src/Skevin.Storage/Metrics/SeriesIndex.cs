using System.Collections.Concurrent;
using Skevin.Core.Series;

namespace Skevin.Storage.Metrics;

/// <summary>All known series in memory, by identity and by metric.</summary>
public sealed class SeriesIndex
{
    private readonly ConcurrentDictionary<(int Cluster, SeriesKey Key), StoredSeries> _byKey = new();
    private readonly ConcurrentDictionary<string, ConcurrentDictionary<long, StoredSeries>> _byMetric = new();
    private readonly ConcurrentDictionary<long, StoredSeries> _byId = new();

    /// <summary>How many.</summary>
    public int Count => _byId.Count;

    /// <summary>Names of all metrics.</summary>
    public IEnumerable<string> Metrics => _byMetric.Keys;

    /// <summary>All series.</summary>
    public IEnumerable<StoredSeries> All => _byId.Values;

    /// <summary>A series by its identity, or null.</summary>
    public StoredSeries? Find(int cluster, SeriesKey key) => _byKey.GetValueOrDefault((cluster, key));

    /// <summary>A series by its number, or null.</summary>
    public StoredSeries? Of(long id) => _byId.GetValueOrDefault(id);

    /// <summary>Series of a metric.</summary>
    public IEnumerable<StoredSeries> OfMetric(string metric) => _byMetric.TryGetValue(metric, out var series) ? series.Values : [];

    /// <summary>Adds one that has a number.</summary>
    public void Add(StoredSeries series)
    {
        _byKey[(series.Cluster, series.Key)] = series;
        _byId[series.Id] = series;
        _byMetric.GetOrAdd(series.Key.Metric, _ => new())[series.Id] = series;
    }

    /// <summary>Takes out the series of a cluster that was removed.</summary>
    public void RemoveCluster(int cluster)
    {
        foreach (var series in _byId.Values.Where(series => series.Cluster == cluster))
        {
            _byId.TryRemove(series.Id, out _);
            _byKey.TryRemove((cluster, series.Key), out _);
            if (_byMetric.TryGetValue(series.Key.Metric, out var members) && members.TryRemove(series.Id, out _) && members.IsEmpty)
                _byMetric.TryRemove(series.Key.Metric, out _);
        }
    }
}
