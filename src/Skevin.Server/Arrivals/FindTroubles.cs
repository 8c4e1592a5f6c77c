using System.Collections.Concurrent;
using Skevin.Core.Access;
using Skevin.Server.Collection;
using Skevin.Core.Collection;
using Skevin.Core.Diagnosis;
using Skevin.Server.Ask;
using Skevin.Server.Clusters;
using Skevin.Server.Ingest;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Arrivals;

/// <summary>Finds what is wrong with a cluster's data though it arrives.</summary>
public sealed class FindTroubles(SampleStore store, Heads heads, AskEnquiry ask, SenderClocks clocks, PlansInForce plans, ArrivalBook book, TimeProvider clock)
{
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan Over = TimeSpan.FromMinutes(2);
    private static readonly ILookup<string, string> Nobody = Array.Empty<string>().ToLookup(name => name);

    private readonly ConcurrentDictionary<int, (DateTimeOffset At, IReadOnlyList<Trouble> Found)> _last = new();

    /// <summary>Looks at most every 10 s.</summary>
    public async Task<IReadOnlyList<Trouble>> Run(WatchedCluster cluster, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        if (_last.TryGetValue(cluster.Id, out var last) && now - last.At < Every)
            return last.Found;
        var (from, to) = ((now - Over).ToUnixTimeMilliseconds(), now.ToUnixTimeMilliseconds());
        var alive = StoredRates.BySeries(ask.SeriesFor(AccessScope.Everything, cluster.Name), heads, from, to);
        var inventory = cluster.Watch.Current;
        var plan = (await plans.Revisions(cluster.Id, stop)).FirstOrDefault(revision => revision is { AppliedAt: not null, RemovedAt: null });
        var rollOut = plan is null ? null : RollOutProgress.Summary(inventory, RollOutProgress.Of(inventory, plan.Plan, plan.Revision), plan.Revision);
        var found = Troubles.Of(new ClusterEvidence(Trimming.Metrics(alive, Nobody, new Dictionary<string, DateTimeOffset>()), await Lines(cluster.Id, now.ToUnixTimeSeconds() / 60, stop), clocks.Of(cluster.Id), rollOut, plan?.Revision ?? 0, book.Destinations(cluster.Id, now - Over)));
        _last[cluster.Id] = (now, found);
        return found;
    }

    // Whole minutes: the running one is not over yet.
    private async Task<IReadOnlyList<LineRate>> Lines(int cluster, long minute, CancellationToken stop)
    {
        await using var command = store.Database.CreateCommand("""
            select source, coalesce(sum(samples) filter (where minute >= @lately), 0)::float8 / 2, count(*) filter (where minute < @lately),
                percentile_cont(0.5) within group (order by samples) filter (where minute < @lately)
            from arrival_minute where cluster_id = @cluster and signal = 'logs' and minute >= @from and minute < @to group by source
            """);
        command.Parameters.AddWithValue("cluster", cluster);
        command.Parameters.AddWithValue("from", minute - 62);
        command.Parameters.AddWithValue("lately", minute - 2);
        command.Parameters.AddWithValue("to", minute);
        var rates = new List<LineRate>();
        await using var rows = await command.ExecuteReaderAsync(stop);
        while (await rows.ReadAsync(stop))
            rates.Add(new LineRate(rows.GetString(0), rows.GetDouble(1), rows.GetInt64(2) >= 10 && !rows.IsDBNull(3) ? rows.GetDouble(3) : double.NaN));
        return rates;
    }
}
