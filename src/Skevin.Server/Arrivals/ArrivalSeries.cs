using Npgsql;
using Skevin.Core.Access;
using Skevin.Core.Arrivals;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Server.Clusters;

namespace Skevin.Server.Arrivals;

/// <summary>
/// The source <c>arrivals</c> beside the metrics: one gauge a source, 1 for each minute that has data, 0 for one that has none though it should. A source is
/// expected from its first minute with data, or from when both its ends were ready; one that is expected no longer ends with its last minute.
/// </summary>
public sealed class ArrivalSeries(ISeriesReader metrics, NpgsqlDataSource database, ClusterWatchers watchers, JudgeArrivals judge, AccessScope scope, string? cluster, TimeProvider clock) : ISeriesReader
{
    private const long Minute = 60_000;

    // Data before the window tell that a source was expected at its begin.
    private const long Before = 60;

    private sealed record Source(int Cluster, string Signal, string Name, ExpectedSource? Expected);

    private readonly List<Source> _found = [];

    /// <inheritdoc/>
    public long SamplesFrom => metrics.SamplesFrom;

    /// <inheritdoc/>
    public IEnumerable<string> Metrics() => metrics.Metrics().Append(Words.Arrivals);

    /// <inheritdoc/>
    public async Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop)
    {
        if (metric != Words.Arrivals)
            return await metrics.Find(metric, from, to, stop);
        _found.Clear();
        var series = new List<StoredSeries>();
        foreach (var watched in watchers.All.Where(one => (cluster is null || cluster == one.Name) && scope.Sees(one.Name)))
        {
            var expected = (await judge.Run(watched, stop)).ToDictionary(source => (source.Evidence.Expected.Signal, source.Evidence.Expected.Name));
            foreach (var source in expected.Values)
                Add(watched, source.Evidence.Expected.Signal, source.Evidence.Expected.Name, source.Evidence.Expected.Namespace, Written(source.State), source.Evidence.Expected);
            foreach (var (signal, name) in await Seen(watched.Id, from, to, stop))
                if (!expected.ContainsKey((signal, name)))
                    // What an agent says of itself comes with the rest and is not expected by itself.
                    if (!name.StartsWith(ExpectedSources.Own(""), StringComparison.Ordinal))
                        Add(watched, signal, name, NamespaceOf(name), "gone", null);
        }
        return series;

        void Add(WatchedCluster watched, string signal, string name, string? ns, string state, ExpectedSource? source)
        {
            if (!scope.Sees(watched.Name, ns))
                return;
            var labels = Labels.From([new("k8s.cluster.name", watched.Name), new("signal", signal), new("source", name), new("state", state), new("k8s.namespace.name", ns ?? "")]);
            series.Add(new StoredSeries(_found.Count, watched.Id, new SeriesKey(Words.Arrivals, SeriesKind.Gauge, "1", labels)));
            _found.Add(new Source(watched.Id, signal, name, source));
        }
    }

    /// <inheritdoc/>
    public async Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop)
    {
        if (series.Count == 0 || series[0].Key.Metric != Words.Arrivals)
            return await metrics.Read(series, from, to, stop);
        var sources = series.Select(one => _found[(int)one.Id]).ToArray();
        var minutes = new Dictionary<(int, string, string), HashSet<long>>();
        await using var command = database.CreateCommand("""
            select cluster_id, signal, source, minute from arrival_minute
            where cluster_id = any(@clusters) and minute between @from and @to and source = any(@sources)
            """);
        command.Parameters.AddWithValue("clusters", sources.Select(source => source.Cluster).Distinct().ToArray());
        command.Parameters.AddWithValue("sources", sources.Select(source => source.Name).Distinct().ToArray());
        command.Parameters.AddWithValue("from", from / Minute - Before);
        command.Parameters.AddWithValue("to", to / Minute);
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
        {
            var key = (reader.GetInt32(0), reader.GetString(1), reader.GetString(2));
            if (!minutes.TryGetValue(key, out var own))
                minutes[key] = own = [];
            own.Add(reader.GetInt64(3));
        }
        var now = clock.GetUtcNow();
        return [.. sources.Select(source => Samples(source, minutes.GetValueOrDefault((source.Cluster, source.Signal, source.Name)) ?? [], from, to, now))];
    }

    /// <inheritdoc/>
    public Task<IReadOnlyList<HistogramSample[]>> ReadHistograms(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop) => metrics.ReadHistograms(series, from, to, stop);

    /// <inheritdoc/>
    public async Task<IReadOnlyList<SummaryRun>> ReadSummaries(IReadOnlyList<StoredSeries> series, long from, long to, long width, CancellationToken stop) =>
        series.Count == 0 || series[0].Key.Metric != Words.Arrivals ? await metrics.ReadSummaries(series, from, to, width, stop)
            : [.. (await Read(series, SummaryRun.EndOf(from + 1, width) - width, SummaryRun.EndOf(to, width), stop)).Select(run => SummaryRun.Of(run, width))];

    // The sample of a minute stands at its end.
    private static Sample[] Samples(Source source, HashSet<long> minutes, long from, long to, DateTimeOffset now)
    {
        long? first = minutes.Count > 0 ? minutes.Min() : null;
        if (source.Expected?.Since is { } since && since.ToUnixTimeMilliseconds() / Minute + 1 is var ready && !(first < ready))
            first = ready;
        // A minute may still be filled while its data can be on their way.
        var settled = (now.ToUnixTimeMilliseconds() - (long)((source.Expected?.IntervalSeconds ?? 60) * 1000 * CounterRise.GapIntervals)) / Minute - 1;
        var last = source.Expected is not null ? settled : minutes.Count > 0 ? minutes.Max() : long.MinValue;
        if (first is not { } begin)
            return [];
        var samples = new List<Sample>();
        for (var minute = Math.Max(begin, from / Minute); minute <= Math.Min(Math.Max(last, minutes.Count > 0 ? minutes.Max() : last), to / Minute - 1); minute++)
            if ((minute + 1) * Minute > from)
                samples.Add(new Sample((minute + 1) * Minute, minutes.Contains(minute) ? 1 : 0));
        return [.. samples];
    }

    private async Task<List<(string Signal, string Name)>> Seen(int id, long from, long to, CancellationToken stop)
    {
        var seen = new List<(string, string)>();
        await using var command = database.CreateCommand("select distinct signal, source from arrival_minute where cluster_id = @cluster and minute between @from and @to");
        command.Parameters.AddWithValue("cluster", id);
        command.Parameters.AddWithValue("from", from / Minute);
        command.Parameters.AddWithValue("to", to / Minute);
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            seen.Add((reader.GetString(0), reader.GetString(1)));
        return seen;
    }

    // Of what is no longer in the plan only the name is left. Nodes and the cluster have no namespace.
    private static string? NamespaceOf(string name) => name.Split('/') is [not ("node" or "host" or "agent" or "syslog"), _, ..] parts ? parts[0] : null;

    private static string Written(ArrivalState state) => string.Concat(state.ToString().Select((letter, i) => i > 0 && char.IsUpper(letter) ? " " + char.ToLowerInvariant(letter) : char.ToLowerInvariant(letter).ToString()));
}
