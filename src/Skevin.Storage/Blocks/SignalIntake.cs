using Npgsql;
using NpgsqlTypes;
using Skevin.Core.Blocks;
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
    /// <summary>Log lines.</summary>
    public IReadOnlyList<LogLine> Lines { get; init; } = [];

    /// <summary>Events of the cluster.</summary>
    public IReadOnlyList<LogLine> Events { get; init; } = [];

    /// <summary>Spans.</summary>
    public IReadOnlyList<Span> Spans { get; init; } = [];

    /// <summary>Flows by minute.</summary>
    public IReadOnlyList<FlowMinute> Flows { get; init; } = [];
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

    private sealed record Block(string Table, long Number, int Cluster, DateOnly Day, short Kind, long From, long To, int Count, byte[] Words, byte[] Payload);

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
        var blocks = new List<Block>();
        var traces = new List<(DateOnly Day, long Trace, long Block)>();
        foreach (var cluster in fresh.GroupBy(request => request.Cluster))
        {
            foreach (var (kind, lines) in new[] { ((short)0, cluster.SelectMany(request => request.Lines)), ((short)1, cluster.SelectMany(request => request.Events)) })
                foreach (var day in lines.GroupBy(line => DayPartitions.DayOf(line.Milliseconds)))
                    blocks.Add(new Block("log_block", 0, cluster.Key, day.Key, kind, day.Min(line => line.Milliseconds), day.Max(line => line.Milliseconds), day.Count(), WordsOf(day), LogBlock.Encode(day)));
            foreach (var day in cluster.SelectMany(request => request.Spans).Where(span => !_recent.Holds(cluster.Key, span) && together.Add(RecentSpans.Fingerprint(cluster.Key, span)))
                .GroupBy(span => DayPartitions.DayOf(span.Milliseconds)))
            {
                blocks.Add(new Block("span_block", 0, cluster.Key, day.Key, 0, day.Min(span => span.Milliseconds), day.Max(span => span.Milliseconds), day.Count(), WordsOf(day), SpanBlock.Encode(day)));
                traces.AddRange(day.Select(span => (long)span.Trace.Low).Distinct().Select(trace => (day.Key, trace, (long)blocks.Count - 1)));
            }
            foreach (var day in FlowMinutes.Sum(cluster.SelectMany(request => request.Flows)).GroupBy(flow => DayPartitions.DayOf(flow.Key.Minute)))
                blocks.Add(new Block("flow_block", 0, cluster.Key, day.Key, 0, day.Min(flow => flow.Key.Minute), day.Max(flow => flow.Key.Minute), day.Count(), [], FlowBlock.Encode(day)));
        }
        var numbers = await Numbers(connection, transaction, blocks.Count, stop);
        for (var i = 0; i < blocks.Count; i++)
            blocks[i] = blocks[i] with { Number = numbers[i] };
        await Copy(connection, "log_block", "lines, words, kind", blocks, now, stop);
        await Copy(connection, "span_block", "spans, words", blocks, now, stop);
        await Copy(connection, "flow_block", "rows", blocks, now, stop);
        if (traces.Count > 0)
            await CopyTraces(connection, traces.Select(entry => (entry.Day, entry.Trace, numbers[entry.Block])), stop);
        var arrived = fresh.SelectMany(request => request.Sources.Select(source => (request.Cluster, source))).ToArray();
        await ArrivalBook.Write(connection, transaction, arrived, now, stop);
        await transaction.CommitAsync(stop);

        _recent.Add(together, now);
        _arrivals.Arrived(arrived, now);
        var kept = fresh.ToHashSet(ReferenceEqualityComparer.Instance);
        return [.. group.Select(request => kept.Contains(request))];
    }

    private static async Task<long[]> Numbers(NpgsqlConnection connection, NpgsqlTransaction transaction, int count, CancellationToken stop)
    {
        var numbers = new long[count];
        await using var command = new NpgsqlCommand("select nextval('block_number') from generate_series(1, @count)", connection, transaction);
        command.Parameters.AddWithValue("count", count);
        await using var reader = await command.ExecuteReaderAsync(stop);
        for (var i = 0; await reader.ReadAsync(stop); i++)
            numbers[i] = reader.GetInt64(0);
        return numbers;
    }

    private static async Task Copy(NpgsqlConnection connection, string table, string columns, List<Block> all, DateTimeOffset now, CancellationToken stop)
    {
        var blocks = all.Where(block => block.Table == table).ToArray();
        if (blocks.Length == 0)
            return;
        await using var copy = await connection.BeginBinaryImportAsync($"copy {table} (day, id, cluster_id, from_ms, to_ms, received_at, payload, {columns}) from stdin (format binary)", stop);
        foreach (var block in blocks)
        {
            await copy.StartRowAsync(stop);
            await copy.WriteAsync(block.Day, NpgsqlDbType.Date, stop);
            await copy.WriteAsync(block.Number, NpgsqlDbType.Bigint, stop);
            await copy.WriteAsync(block.Cluster, NpgsqlDbType.Integer, stop);
            await copy.WriteAsync(block.From, NpgsqlDbType.Bigint, stop);
            await copy.WriteAsync(block.To, NpgsqlDbType.Bigint, stop);
            await copy.WriteAsync(now.UtcDateTime, NpgsqlDbType.TimestampTz, stop);
            await copy.WriteAsync(block.Payload, NpgsqlDbType.Bytea, stop);
            await copy.WriteAsync(block.Count, NpgsqlDbType.Integer, stop);
            if (columns.Contains("words"))
                await copy.WriteAsync(block.Words, NpgsqlDbType.Bytea, stop);
            if (columns.Contains("kind"))
                await copy.WriteAsync(block.Kind, NpgsqlDbType.Smallint, stop);
        }
        await copy.CompleteAsync(stop);
    }

    private static async Task CopyTraces(NpgsqlConnection connection, IEnumerable<(DateOnly Day, long Trace, long Block)> traces, CancellationToken stop)
    {
        await using var copy = await connection.BeginBinaryImportAsync("copy trace_index (day, trace, block) from stdin (format binary)", stop);
        foreach (var (day, trace, block) in traces)
        {
            await copy.StartRowAsync(stop);
            await copy.WriteAsync(day, NpgsqlDbType.Date, stop);
            await copy.WriteAsync(trace, NpgsqlDbType.Bigint, stop);
            await copy.WriteAsync(block, NpgsqlDbType.Bigint, stop);
        }
        await copy.CompleteAsync(stop);
    }

    private static byte[] WordsOf(IEnumerable<LogLine> lines)
    {
        var words = new HashSet<string>(StringComparer.Ordinal);
        var resources = new HashSet<Core.Series.Labels>();
        foreach (var line in lines)
        {
            WordFilter.Split(line.Text, word => words.Add(word));
            WordFilter.Split(line.Attributes, word => words.Add(word));
            if (resources.Add(line.Resource))
                WordFilter.Split(line.Resource, word => words.Add(word));
        }
        return WordFilter.Of(words);
    }

    private static byte[] WordsOf(IEnumerable<Span> spans)
    {
        var words = new HashSet<string>(StringComparer.Ordinal);
        var seen = new HashSet<Core.Series.Labels>();
        void All(string text) => WordFilter.Split(text, word => words.Add(word));
        void Labels(Core.Series.Labels labels)
        {
            if (seen.Add(labels))
                WordFilter.Split(labels, word => words.Add(word));
        }
        foreach (var span in spans)
        {
            All(span.Name);
            All(span.Kind.ToString());
            All(span.Status.ToString());
            All(span.StatusMessage);
            Labels(span.Resource);
            Labels(span.Attributes);
            foreach (var note in span.Events)
                Labels(note.Attributes);
        }
        return WordFilter.Of(words);
    }
}
