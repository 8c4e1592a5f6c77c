using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Server.Alarms;

/// <summary>Reads series for one round of judging: many rules watch the same metric over the same slot, and it is looked for once.</summary>
internal sealed class RoundReader(ISeriesReader inner) : ISeriesReader
{
    private readonly Dictionary<(string Metric, long From, long To), SeriesList> _found = [];

    /// <inheritdoc/>
    public long SamplesFrom => inner.SamplesFrom;

    /// <inheritdoc/>
    public IEnumerable<string> Metrics() => inner.Metrics();

    /// <inheritdoc/>
    public async Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop)
    {
        // Arrivals are series made for the one who asks.
        if (metric == Words.Arrivals)
            return await inner.Find(metric, from, to, stop);
        if (!_found.TryGetValue((metric, from, to), out var known))
            _found[(metric, from, to)] = known = new SeriesList(await inner.Find(metric, from, to, stop));
        return known;
    }

    /// <inheritdoc/>
    public Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop) => inner.Read(series, from, to, stop);

    /// <inheritdoc/>
    public Task<IReadOnlyList<SummaryRun>> ReadSummaries(IReadOnlyList<StoredSeries> series, long from, long to, long width, CancellationToken stop) => inner.ReadSummaries(series, from, to, width, stop);

    /// <inheritdoc/>
    public Task<IReadOnlyList<HistogramSample[]>> ReadHistograms(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop) => inner.ReadHistograms(series, from, to, stop);
}
