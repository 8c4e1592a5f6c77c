using Skevin.Core.Access;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Storage.Metrics;

/// <summary>Reads series for one reader: what their access scope does not hold does not exist for them.</summary>
/// <param name="samplesFrom">Single samples are kept from here on, epoch milliseconds.</param>
public sealed class ScopedReader(SampleStore store, SeriesIndex index, Heads heads, AccessScope scope, string? cluster, long samplesFrom) : ISeriesReader
{
    /// <inheritdoc/>
    public long SamplesFrom => samplesFrom;

    /// <inheritdoc/>
    public IEnumerable<string> Metrics() => index.All.Where(Visible).Select(series => series.Key.Metric).Distinct();

    /// <summary>All visible series, whatever their metric.</summary>
    public IEnumerable<StoredSeries> All() => index.All.Where(Visible);

    /// <inheritdoc/>
    public Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop) => Task.FromResult<IReadOnlyList<StoredSeries>>(
    [
        .. index.OfMetric(metric).Where(Visible)
            .Where(series => from < heads.Start || heads.Has(series, from, to))
            .OrderBy(series => series.Id),
    ]);

    /// <inheritdoc/>
    public async Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop)
    {
        if (from >= heads.Start)
            return [.. series.Select(one => heads.Samples.Read(one.Id, from, to))];
        var wanted = series.ToDictionary(one => one.Id, _ => new List<Sample>());
        await store.Read(from, Math.Min(to, heads.Start - 1), series.Select(one => one.Key.Metric).Distinct().Count() == 1 ? series[0].Key.Metric : null, wanted.ContainsKey, (id, sample) =>
        {
            if (sample.Time > from && sample.Time <= to && sample.Time < heads.Start)
                wanted[id].Add(sample);
        }, stop);
        return [.. series.Select(one => (Sample[])[.. SampleRuns.InOrder(wanted[one.Id]), .. heads.Samples.Read(one.Id, Math.Max(from, heads.Start - 1), to)])];
    }

    /// <inheritdoc/>
    public async Task<IReadOnlyList<SummaryRun>> ReadSummaries(IReadOnlyList<StoredSeries> series, long from, long to, long width, CancellationToken stop)
    {
        if (series.Count == 0)
            return [];
        var (first, last) = (SampleFolding.StartOf(from + 1), SummaryRun.EndOf(to, SampleFolding.Window));
        var runs = series.ToDictionary(one => one.Id, _ => new List<(long End, SummaryRun Run)>());
        // What waits to be folded is the newest, and that is in memory.
        var waiting = await store.ReadSummaries(first, last, series[0].Key.Metric, width, runs, heads.Start, stop);
        foreach (var (id, own) in runs)
            foreach (var end in waiting)
                if (heads.Samples.Read(id, end - SampleFolding.Window, end) is { Length: > 0 } newest)
                    own.Add((end, SummaryRun.Of(newest, width)));
        return [.. series.Select(one => SummaryRun.Following([.. runs[one.Id].OrderBy(run => run.End).Select(run => run.Run)]))];
    }

    /// <inheritdoc/>
    public async Task<IReadOnlyList<HistogramSample[]>> ReadHistograms(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop)
    {
        var older = series.ToDictionary(one => one.Id, _ => new List<HistogramSample>());
        if (from < heads.Start)
            await store.ReadHistograms(from, Math.Min(to, heads.Start - 1), older.ContainsKey, (id, sample) =>
            {
                if (sample.Time > from && sample.Time <= to && sample.Time < heads.Start)
                    older[id].Add(sample);
            }, stop);
        return [.. series.Select(one => (HistogramSample[])[.. older[one.Id].OrderBy(sample => sample.Time).DistinctBy(sample => sample.Time), .. heads.Histograms.Read(one.Id, Math.Max(from, heads.Start - 1), to)])];
    }

    private bool Visible(StoredSeries series)
    {
        var name = series.Key.Labels["k8s.cluster.name"] ?? "";
        return (cluster is null || cluster == name) && scope.Sees(name, series.Key.Labels["k8s.namespace.name"]);
    }
}
