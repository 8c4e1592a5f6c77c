using Skevin.Core.Arrivals;
using Skevin.Core.Series;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Collection;

/// <summary>How much was stored a second.</summary>
internal static class StoredRates
{
    /// <summary>Samples, lines, spans and flow records a second, by signal, over whole minutes; empty where there is none between them.</summary>
    /// <param name="from">Minutes since the epoch, included.</param>
    /// <param name="to">Minutes since the epoch, excluded: a running minute is not over yet.</param>
    public static async Task<Dictionary<string, double>> BySignal(SampleStore store, int cluster, long from, long to, CancellationToken stop)
    {
        var rates = new Dictionary<string, double>();
        if (to - from < 1)
            return rates;
        await using var command = store.Database.CreateCommand("select signal, sum(samples) from arrival_minute where cluster_id = @cluster and minute >= @from and minute < @to group by signal");
        command.Parameters.AddWithValue("cluster", cluster);
        command.Parameters.AddWithValue("from", from);
        command.Parameters.AddWithValue("to", to);
        await using var rows = await command.ExecuteReaderAsync(stop);
        while (await rows.ReadAsync(stop))
            rates[rows.GetString(0)] = rows.GetInt64(1) / ((to - from) * 60.0);
        return rates;
    }

    /// <summary>Items stored of each source over whole minutes, and the first of these minutes that has some.</summary>
    /// <param name="from">Minutes since the epoch, included.</param>
    /// <param name="to">Minutes since the epoch, excluded.</param>
    public static async Task<IReadOnlyList<(string Signal, string Source, double Items, long First)>> BySource(SampleStore store, int cluster, long from, long to, CancellationToken stop)
    {
        await using var command = store.Database.CreateCommand("select signal, source, sum(samples)::float8, min(minute) from arrival_minute where cluster_id = @cluster and minute >= @from and minute < @to group by signal, source");
        command.Parameters.AddWithValue("cluster", cluster);
        command.Parameters.AddWithValue("from", from);
        command.Parameters.AddWithValue("to", to);
        var found = new List<(string, string, double, long)>();
        await using var rows = await command.ExecuteReaderAsync(stop);
        while (await rows.ReadAsync(stop))
            found.Add((rows.GetString(0), rows.GetString(1), rows.GetDouble(2), rows.GetInt64(3)));
        return found;
    }

    /// <summary>Series a reader sees that had samples in a stretch, epoch milliseconds, with samples a second and whether an application's endpoint gave them.</summary>
    public static IEnumerable<(SeriesKey Key, double PerSecond, bool OfEndpoint)> BySeries(ScopedReader reader, Heads heads, long from, long to) => reader.All().Where(series => heads.Has(series, from, to))
        .Select(series => (series.Key, heads.Samples.Read(series.Id, from, to).Length * 1000.0 / (to - from), ExpectedSources.IsEndpoint(series.Source)));
}
