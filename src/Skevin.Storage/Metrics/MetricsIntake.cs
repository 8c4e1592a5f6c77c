using Npgsql;
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
    // The numbers of the request's series as far as they were known when it came; 0 for a new one.
    private sealed record Request(int Cluster, RequestKey Key, ReadMetrics Read, long[] Samples, long[] Histograms);

    private readonly SampleStore _store;
    private readonly DayPartitions _partitions;
    private readonly SeriesIndex _index;
    private readonly Head<Sample> _head;
    private readonly Head<HistogramSample> _histograms;
    private readonly ArrivalBook _arrivals;
    private readonly TimeProvider _clock;
    private readonly GroupCommit<Request, IntakeResult> _commits;

    /// <summary>Makes it; <see cref="Start"/> begins.</summary>
    public MetricsIntake(SampleStore store, DayPartitions partitions, SeriesIndex index, Heads heads, ArrivalBook arrivals, TimeProvider clock)
    {
        (_store, _partitions, _index, _head, _histograms, _arrivals, _clock) = (store, partitions, index, heads.Samples, heads.Histograms, arrivals, clock);
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
    public Task<IntakeResult> Store(int cluster, RequestKey key, ReadMetrics read)
    {
        // Looked up here, because many requests are at this point at a time but only one group is committed.
        long[] Known<T>(IReadOnlyList<IncomingRun<T>> runs) => [.. runs.Select(run => _index.Find(cluster, run.Key)?.Id ?? 0)];
        return _commits.Run(new Request(cluster, key, read, Known(read.Samples), Known(read.Histograms)));
    }

    /// <inheritdoc/>
    public ValueTask DisposeAsync() => _commits.DisposeAsync();

    private async Task<IReadOnlyList<IntakeResult>> Commit(IReadOnlyList<Request> group, CancellationToken stop)
    {
        var now = _clock.GetUtcNow();
        var days = Days(group, request => request.Read.Samples).Select(day => ("sample_batch", day)).Concat(Days(group, request => request.Read.Histograms).Select(day => ("histogram_block", day)));
        await _partitions.Ensure(days, stop);
        await using var connection = await _store.Database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(stop);
        var fresh = await IngestKeys.TakeNew(connection, transaction, group, request => request.Key, now, stop);
        var made = await Number(connection, transaction, fresh, stop);

        var results = new Dictionary<Request, IntakeResult>(ReferenceEqualityComparer.Instance);
        var (samples, histograms) = (new Sieve<Sample>(_head), new Sieve<HistogramSample>(_histograms));
        foreach (var request in fresh)
        {
            var (stored, conflicts) = samples.Take(request.Cluster, request.Samples, request.Read.Samples);
            var (more, worse) = histograms.Take(request.Cluster, request.Histograms, request.Read.Histograms);
            results[request] = new IntakeResult(stored + more, false, conflicts + worse);
        }
        await SampleStore.Copy(connection, samples.Fresh, now, stop);
        await SignalBlocks.Write(connection, transaction, [.. BlocksOf(histograms, now)], stop);
        var arrived = fresh.SelectMany(request => request.Read.Sources.Select(source => (request.Cluster, source))).ToArray();
        await ArrivalBook.Write(connection, transaction, arrived, now, stop);
        await transaction.CommitAsync(stop);

        foreach (var ((cluster, key), (id, source)) in made)
            _index.Add(new StoredSeries(id, cluster, key, source));
        samples.IntoHead();
        histograms.IntoHead();
        _arrivals.Arrived(arrived, now);
        return [.. group.Select(request => results.GetValueOrDefault(request) ?? new IntakeResult(0, true, 0))];
    }

    private static IEnumerable<DateOnly> Days<T>(IReadOnlyList<Request> group, Func<Request, IReadOnlyList<IncomingRun<T>>> runs) where T : ITimed<T>
    {
        const long day = 86_400_000;
        var (days, before) = (new HashSet<long>(), -1L);
        foreach (var request in group)
            foreach (var run in runs(request))
                foreach (var point in run.Points)
                    if (point.Time / day is var one && one != before)
                        days.Add(before = one);
        return days.Select(number => DayPartitions.DayOf(number * day));
    }

    // Gives numbers to series that had none when their request came.
    private async Task<IReadOnlyDictionary<(int Cluster, SeriesKey Key), (long Id, string? Source)>> Number(NpgsqlConnection connection, NpgsqlTransaction transaction, IReadOnlyList<Request> fresh, CancellationToken stop)
    {
        var unknown = new Dictionary<(int, SeriesKey), string?>();
        Fill((request, key, source) => _index.Find(request.Cluster, key)?.Id ?? (unknown.TryAdd((request.Cluster, key), source) ? 0 : 0));
        if (unknown.Count == 0)
            return new Dictionary<(int, SeriesKey), (long, string?)>();
        var made = await SampleStore.Resolve(connection, transaction, unknown, stop);
        Fill((request, key, _) => made[(request.Cluster, key)]);
        return made.ToDictionary(one => one.Key, one => (one.Value, unknown[one.Key]));

        void Fill(Func<Request, SeriesKey, string?, long> number)
        {
            foreach (var request in fresh)
            {
                for (var i = 0; i < request.Samples.Length; i++)
                    if (request.Samples[i] == 0)
                        request.Samples[i] = number(request, request.Read.Samples[i].Key, request.Read.Samples[i].Source);
                for (var i = 0; i < request.Histograms.Length; i++)
                    if (request.Histograms[i] == 0)
                        request.Histograms[i] = number(request, request.Read.Histograms[i].Key, request.Read.Histograms[i].Source);
            }
        }
    }

    private static IEnumerable<SignalBlock> BlocksOf(Sieve<HistogramSample> histograms, DateTimeOffset now) =>
        histograms.Fresh.SelectMany(run => run.Samples.Select(sample => (run.Cluster, Day: DayPartitions.DayOf(sample.Time), Sample: new SeriesHistogram(run.Series, sample))))
            .GroupBy(one => (one.Cluster, one.Day), one => one.Sample).Select(block => SignalBlock.OfHistograms(block.Key.Cluster, block.Key.Day, [.. block], now));
}
