using System.Threading.Channels;
using Npgsql;

using Skevin.Core.Formats.Otlp;
using Skevin.Core.Series;
using Skevin.Storage.Arrivals;

namespace Skevin.Storage.Metrics;

/// <summary>What became of a request.</summary>
/// <param name="Stored">Samples stored now.</param>
/// <param name="Repeated">Whether the whole request had been taken before.</param>
/// <param name="Conflicts">Samples refused because another value was there: two senders.</param>
public sealed record IntakeResult(int Stored, bool Repeated, int Conflicts);

/// <summary>
/// The one way samples come in. Requests that wait at the same time share a commit; where that fails they are committed
/// singly. A request is answered after its commit, and only then do its samples stand in the head.
/// </summary>
public sealed class MetricsIntake(SampleStore store, SeriesIndex index, Head head, ArrivalBook arrivals, TimeProvider clock) : IAsyncDisposable
{
    private const int MostTogether = 64;

    private sealed record Pending(int Cluster, Guid Sender, string? Key, ReadMetrics Read, TaskCompletionSource<IntakeResult> Done);

    private readonly Channel<Pending> _queue = Channel.CreateBounded<Pending>(new BoundedChannelOptions(512) { SingleReader = true });
    private readonly CancellationTokenSource _stop = new();
    private Task? _worker;

    /// <summary>Begins to take requests.</summary>
    public void Start() => _worker = Task.Run(Work);

    /// <summary>Whether more requests wait than can be taken soon; senders are asked to come again.</summary>
    public bool Crowded => _queue.Reader.Count > 400;

    /// <summary>Stores a request.</summary>
    /// <param name="cluster">The token's cluster.</param>
    /// <param name="sender">The token.</param>
    /// <param name="key">The sender's Idempotency-Key, or null.</param>
    /// <param name="read">The samples.</param>
    /// <returns>After the commit.</returns>
    public async Task<IntakeResult> Store(int cluster, Guid sender, string? key, ReadMetrics read)
    {
        var pending = new Pending(cluster, sender, key, read, new(TaskCreationOptions.RunContinuationsAsynchronously));
        await _queue.Writer.WriteAsync(pending, _stop.Token);
        return await pending.Done.Task;
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        _queue.Writer.TryComplete();
        if (_worker is { } worker)
            await worker;
        _stop.Dispose();
    }

    private async Task Work()
    {
        while (await _queue.Reader.WaitToReadAsync())
        {
            var group = new List<Pending>();
            while (group.Count < MostTogether && _queue.Reader.TryRead(out var pending))
                group.Add(pending);
            try
            {
                await Commit(group);
            }
            catch (Exception) when (group.Count > 1)
            {
                foreach (var single in group.Where(single => !single.Done.Task.IsCompleted))
                    await CommitSingly(single);
            }
            catch (Exception trouble)
            {
                group[0].Done.TrySetException(trouble);
            }
        }
    }

    private async Task CommitSingly(Pending single)
    {
        try
        {
            await Commit([single]);
        }
        catch (Exception trouble)
        {
            single.Done.TrySetException(trouble);
        }
    }

    private async Task Commit(List<Pending> group)
    {
        var stop = _stop.Token;
        var now = clock.GetUtcNow();
        await store.EnsurePartitions(group.SelectMany(pending => pending.Read.Samples).Select(sample => SampleStore.DayOf(sample.Sample.Time)).Distinct(), stop);
        await using var connection = await store.Database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(stop);
        var fresh = await NewRequests(connection, transaction, group, now, stop);
        var unknown = fresh.SelectMany(pending => pending.Read.Samples.Select(sample => (pending.Cluster, sample.Key)))
            .Distinct().Where(pair => index.Find(pair.Cluster, pair.Key) is null).ToArray();
        var made = unknown.Length == 0
            ? new Dictionary<(int, SeriesKey), long>()
            : await SampleStore.Resolve(connection, transaction, unknown, stop);
        long Number(int cluster, SeriesKey key) => index.Find(cluster, key)?.Id ?? made[(cluster, key)];

        var results = new List<(Pending Pending, IntakeResult Result, SampleStore.BatchRow Row)>();
        var together = new Dictionary<(long, long), double>();
        foreach (var pending in fresh)
        {
            var samples = new List<SeriesSample>(pending.Read.Samples.Count);
            var conflicts = 0;
            foreach (var (key, sample) in pending.Read.Samples)
            {
                var series = Number(pending.Cluster, key);
                var look = head.Look(series, sample);
                // The same series and time may stand twice in what is committed together.
                if (look == HeadAdd.Added && !together.TryAdd((series, sample.Time), sample.Value))
                    look = together[(series, sample.Time)].Equals(sample.Value) ? HeadAdd.Same : HeadAdd.Conflict;
                if (look == HeadAdd.Added)
                    samples.Add(new SeriesSample(series, sample));
                else if (look == HeadAdd.Conflict)
                    conflicts++;
            }
            results.Add((pending, new IntakeResult(samples.Count, false, conflicts), new SampleStore.BatchRow(pending.Cluster, now, samples)));
        }
        await SampleStore.Copy(connection, results.Select(result => result.Row).Where(row => row.Samples.Count > 0), stop);
        var arrived = fresh.SelectMany(pending => pending.Read.Sources.Select(source => (pending.Cluster, source))).ToArray();
        await ArrivalBook.Write(connection, transaction, arrived, now, stop);
        await transaction.CommitAsync(stop);

        foreach (var ((cluster, key), id) in made)
            index.Add(new StoredSeries(id, cluster, key));
        foreach (var (series, sample) in results.SelectMany(result => result.Row.Samples))
            if (sample.Time >= head.Start)
                head.Add(series, sample);
        arrivals.Arrived(arrived, now);
        foreach (var (pending, result, _) in results)
            pending.Done.TrySetResult(result);
        foreach (var repeated in group.Except(fresh))
            repeated.Done.TrySetResult(new IntakeResult(0, true, 0));
    }

    private static async Task<List<Pending>> NewRequests(
        NpgsqlConnection connection, NpgsqlTransaction transaction, List<Pending> group, DateTimeOffset now, CancellationToken stop)
    {
        var keyed = group.Where(pending => pending.Key is not null).DistinctBy(pending => (pending.Sender, pending.Key)).ToArray();
        if (keyed.Length == 0)
            return group;
        await using var command = new NpgsqlCommand("""
            insert into ingest_key (sender, key, received_at) select sender, key, @now from unnest(@sender, @key) as given (sender, key)
            on conflict do nothing returning sender, key
            """, connection, transaction);
        command.Parameters.AddWithValue("now", now.UtcDateTime);
        command.Parameters.AddWithValue("sender", keyed.Select(pending => pending.Sender).ToArray());
        command.Parameters.AddWithValue("key", keyed.Select(pending => pending.Key!).ToArray());
        var taken = new HashSet<(Guid, string)>();
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            taken.Add((reader.GetGuid(0), reader.GetString(1)));
        return [.. group.Where(pending => pending.Key is null || (keyed.Contains(pending) && taken.Contains((pending.Sender, pending.Key))))];
    }
}
