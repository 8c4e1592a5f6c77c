using Npgsql;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Logs;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Traces;

namespace Skevin.Storage.Blocks;

/// <summary>What a request brings of logs, traces and flows.</summary>
/// <param name="Cluster">The token's cluster.</param>
/// <param name="Key">Tells it from its repetition.</param>
/// <param name="Sources">By expected source.</param>
public sealed record SignalRequest(int Cluster, RequestKey Key, IReadOnlyList<SourceArrival> Sources)
{
    /// <summary>How long single flows are kept.</summary>
    public static readonly TimeSpan SinglesKept = TimeSpan.FromHours(1);

    /// <summary>Log lines.</summary>
    public IReadOnlyList<LogLine> Lines { get; init; } = [];

    /// <summary>Events of the cluster.</summary>
    public IReadOnlyList<LogLine> Events { get; init; } = [];

    /// <summary>Spans.</summary>
    public IReadOnlyList<Span> Spans { get; init; } = [];

    /// <summary>Flows by minute.</summary>
    public IReadOnlyList<FlowMinute> Flows { get; init; } = [];

    /// <summary>The same flows one by one, as far as they are of the last hour.</summary>
    public IReadOnlyList<FlowRecord> Singles { get; init; } = [];
}

/// <summary>
/// The one way logs, traces and flows come in. What is committed together becomes one block a cluster, day and kind. A span that was
/// stored before, whoever sends it again, is passed over.
/// </summary>
public sealed class SignalIntake : IAsyncDisposable
{
    private readonly NpgsqlDataSource _database;
    private readonly DayPartitions _partitions;
    private readonly RecentSpans _recent;
    private readonly ArrivalBook _arrivals;
    private readonly TimeProvider _clock;
    private readonly GroupCommit<SignalRequest, bool> _commits;

    /// <summary>Makes it; <see cref="Start"/> begins.</summary>
    public SignalIntake(NpgsqlDataSource database, DayPartitions partitions, RecentSpans recent, ArrivalBook arrivals, TimeProvider clock)
    {
        (_database, _partitions, _recent, _arrivals, _clock) = (database, partitions, recent, arrivals, clock);
        _commits = new(Commit);
    }

    /// <summary>Begins to take requests.</summary>
    public void Start() => _commits.Start();

    /// <summary>Whether more requests wait than can be taken soon; senders are asked to come again.</summary>
    public bool Crowded => _commits.Crowded;

    /// <summary>Stores a request.</summary>
    /// <returns>After the commit; false where it was only a repetition.</returns>
    public Task<bool> Store(SignalRequest request) => _commits.Run(request);

    /// <inheritdoc/>
    public ValueTask DisposeAsync() => _commits.DisposeAsync();

    private async Task<IReadOnlyList<bool>> Commit(IReadOnlyList<SignalRequest> group, CancellationToken stop)
    {
        var now = _clock.GetUtcNow();
        var days = group.SelectMany(request =>
            request.Lines.Concat(request.Events).Select(line => ("log_block", DayPartitions.DayOf(line.Milliseconds)))
                .Concat(request.Spans.SelectMany(span => new[] { ("span_block", DayPartitions.DayOf(span.Milliseconds)), ("trace_index", DayPartitions.DayOf(span.Milliseconds)) }))
                .Concat(request.Flows.Select(flow => ("flow_block", DayPartitions.DayOf(flow.Key.Minute)))));
        await _partitions.Ensure(days, stop);
        await using var connection = await _database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(stop);
        var fresh = await IngestKeys.TakeNew(connection, transaction, group, request => request.Key, now, stop);

        var together = new HashSet<ulong>();
        var blocks = new List<SignalBlock>();
        var traces = new List<(DateOnly Day, long Trace, int Block)>();
        foreach (var cluster in fresh.GroupBy(request => request.Cluster))
        {
            foreach (var (kind, lines) in new[] { ((short)0, cluster.SelectMany(request => request.Lines)), ((short)1, cluster.SelectMany(request => request.Events)) })
                foreach (var day in lines.GroupBy(line => DayPartitions.DayOf(line.Milliseconds)))
                    blocks.Add(SignalBlock.OfLines(cluster.Key, day.Key, kind, [.. day], now));
            foreach (var day in cluster.SelectMany(request => request.Spans).Where(span => !_recent.Holds(cluster.Key, span) && together.Add(RecentSpans.Fingerprint(cluster.Key, span)))
                .GroupBy(span => DayPartitions.DayOf(span.Milliseconds)))
            {
                blocks.Add(SignalBlock.OfSpans(cluster.Key, day.Key, [.. day], now));
                traces.AddRange(day.Select(span => (long)span.Trace.Low).Distinct().Select(trace => (day.Key, trace, blocks.Count - 1)));
            }
            foreach (var day in FlowMinutes.Sum(cluster.SelectMany(request => request.Flows)).GroupBy(flow => DayPartitions.DayOf(flow.Key.Minute)))
                blocks.Add(SignalBlock.OfFlows(cluster.Key, day.Key, [.. day], now));
        }
        var numbers = await SignalBlocks.Write(connection, transaction, blocks, stop);
        await SignalBlocks.WriteTraces(connection, traces.Select(entry => (entry.Day, entry.Trace, numbers[entry.Block])), stop);
        foreach (var cluster in fresh.Where(request => request.Singles.Count > 0).GroupBy(request => request.Cluster))
            await WriteSingles(connection, transaction, cluster.Key, [.. cluster.SelectMany(request => request.Singles)], stop);
        var arrived = fresh.SelectMany(request => request.Sources.Select(source => (request.Cluster, source))).ToArray();
        await ArrivalBook.Write(connection, transaction, arrived, now, stop);
        await transaction.CommitAsync(stop);

        _recent.Add(together, now);
        _arrivals.Arrived(arrived, now);
        var kept = fresh.ToHashSet(ReferenceEqualityComparer.Instance);
        return [.. group.Select(request => kept.Contains(request))];
    }

    private static async Task WriteSingles(NpgsqlConnection connection, NpgsqlTransaction transaction, int cluster, FlowRecord[] flows, CancellationToken stop)
    {
        await using var command = new NpgsqlCommand("insert into flow_record (cluster_id, from_ms, to_ms, payload) values (@cluster, @from, @to, @payload)", connection, transaction);
        command.Parameters.AddWithValue("cluster", cluster);
        command.Parameters.AddWithValue("from", flows.Min(flow => flow.End));
        command.Parameters.AddWithValue("to", flows.Max(flow => flow.End));
        command.Parameters.AddWithValue("payload", FlowRecordBlock.Encode(flows));
        await command.ExecuteNonQueryAsync(stop);
    }
}
