using Skevin.Core.Formats.Otlp;
using Skevin.Core.Series;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Blocks;

namespace Skevin.Storage.Metrics;

/// <summary>What became of a request.</summary>
/// <param name="Stored">Samples stored now.</param>
/// <param name="Repeated">Whether the whole request had been taken before.</param>
/// <param name="Conflicts">Samples refused because another value was there: two senders.</param>
public sealed record IntakeResult(int Stored, bool Repeated, int Conflicts);

/// <summary>The one way samples come in: committed in groups, and only then do they stand in the head.</summary>
public sealed class MetricsIntake : IAsyncDisposable
{
    private sealed record Request(int Cluster, RequestKey Key, ReadMetrics Read);

    private readonly SampleStore _store;
    private readonly DayPartitions _partitions;
    private readonly SeriesIndex _index;
    private readonly Head _head;
    private readonly ArrivalBook _arrivals;
    private readonly TimeProvider _clock;
    private readonly GroupCommit<Request, IntakeResult> _commits;

    /// <summary>Makes it; <see cref="Start"/> begins.</summary>
    public MetricsIntake(SampleStore store, DayPartitions partitions, SeriesIndex index, Head head, ArrivalBook arrivals, TimeProvider clock)
    {
        (_store, _partitions, _index, _head, _arrivals, _clock) = (store, partitions, index, head, arrivals, clock);
        _commits = new(Commit);
    }

    /// <summary>Begins to take requests.</summary>
    public void Start() => _commits.Start();

    /// <summary>Whether more requests wait than can be taken soon; senders are asked to come again.</summary>
    public bool Crowded => _commits.Crowded;

    /// <summary>Stores a request.</summary>
    /// <param name="cluster">The token's cluster.</param>
    /// <param name="key">Tells it from its repetition.</param>
    /// <param name="read">The samples.</param>
    /// <returns>After the commit.</returns>
    public Task<IntakeResult> Store(int cluster, RequestKey key, ReadMetrics read) => _commits.Run(new Request(cluster, key, read));

    /// <inheritdoc/>
    public ValueTask DisposeAsync() => _commits.DisposeAsync();

    private async Task<IReadOnlyList<IntakeResult>> Commit(IReadOnlyList<Request> group, CancellationToken stop)
    {
        var now = _clock.GetUtcNow();
        await _partitions.Ensure(group.SelectMany(request => request.Read.Samples).Select(sample => ("sample_batch", DayPartitions.DayOf(sample.Sample.Time))), stop);
        await using var connection = await _store.Database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(stop);
        var fresh = await IngestKeys.TakeNew(connection, transaction, group, request => request.Key, now, stop);
        var unknown = fresh.SelectMany(request => request.Read.Samples.Select(sample => (request.Cluster, sample.Key)))
            .Distinct().Where(pair => _index.Find(pair.Cluster, pair.Key) is null).ToArray();
        var made = unknown.Length == 0
            ? new Dictionary<(int, SeriesKey), long>()
            : await SampleStore.Resolve(connection, transaction, unknown, stop);
        long Number(int cluster, SeriesKey key) => _index.Find(cluster, key)?.Id ?? made[(cluster, key)];

        var results = new Dictionary<Request, (IntakeResult Result, SampleStore.BatchRow Row)>(ReferenceEqualityComparer.Instance);
        var together = new Dictionary<(long, long), double>();
        foreach (var request in fresh)
        {
            var samples = new List<SeriesSample>(request.Read.Samples.Count);
            var conflicts = 0;
            foreach (var (key, sample) in request.Read.Samples)
            {
                var series = Number(request.Cluster, key);
                var look = _head.Look(series, sample);
                // The same series and time may stand twice in what is committed together.
                if (look == HeadAdd.Added && !together.TryAdd((series, sample.Time), sample.Value))
                    look = together[(series, sample.Time)].Equals(sample.Value) ? HeadAdd.Same : HeadAdd.Conflict;
                if (look == HeadAdd.Added)
                    samples.Add(new SeriesSample(series, sample));
                else if (look == HeadAdd.Conflict)
                    conflicts++;
            }
            results[request] = (new IntakeResult(samples.Count, false, conflicts), new SampleStore.BatchRow(request.Cluster, now, samples));
        }
        await SampleStore.Copy(connection, results.Values.Select(result => result.Row).Where(row => row.Samples.Count > 0), stop);
        var arrived = fresh.SelectMany(request => request.Read.Sources.Select(source => (request.Cluster, source))).ToArray();
        await ArrivalBook.Write(connection, transaction, arrived, now, stop);
        await transaction.CommitAsync(stop);

        foreach (var ((cluster, key), id) in made)
            _index.Add(new StoredSeries(id, cluster, key));
        foreach (var (series, sample) in results.Values.SelectMany(result => result.Row.Samples))
            if (sample.Time >= _head.Start)
                _head.Add(series, sample);
        _arrivals.Arrived(arrived, now);
        return [.. group.Select(request => results.TryGetValue(request, out var own) ? own.Result : new IntakeResult(0, true, 0))];
    }
}
