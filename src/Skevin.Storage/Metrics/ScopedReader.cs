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
        // The head answers from the first whole window it holds.
        var (first, last) = (SampleFolding.StartOf(from + 1), SummaryRun.EndOf(to, SampleFolding.Window));
        var whole = heads.Start <= first ? first : SummaryRun.EndOf(heads.Start, SampleFolding.Window);
        var runs = series.ToDictionary(one => one.Id, _ => new List<SummaryRun>());
        if (first < whole && series.Count > 0)
            await store.ReadSummaries(first, Math.Min(last, whole), series[0].Key.Metric, width, runs, stop);
        return
        [
            .. series.Select(one =>
            {
                if (heads.Samples.Read(one.Id, Math.Max(first, whole), last) is { Length: > 0 } newest)
                    runs[one.Id].Add(SummaryRun.Of(newest, width));
                return runs[one.Id] is [var only] ? only : SummaryRun.Joined(runs[one.Id], width);
            }),
        ];
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
