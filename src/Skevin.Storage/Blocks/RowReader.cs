using System.Runtime.CompilerServices;
using System.Text.Json;
using Npgsql;
using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Core.Blocks;
using Skevin.Core.Logs;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;
using Skevin.Storage.Flows;

namespace Skevin.Storage.Blocks;

/// <summary>Reads log lines, spans, flows and events for one reader: what their access scope does not hold does not exist for them.</summary>
public sealed class RowReader(NpgsqlDataSource database, AddressBooks books, AccessScope scope, string? cluster) : IRowReader
{
    /// <inheritdoc/>
    public IAsyncEnumerable<RowBatch> Rows(RowKind kind, long from, long to, RowHints hints, CancellationToken stop) => kind switch
    {
        RowKind.Flows when hints.Single => Singles(from, to, stop),
        RowKind.Flows => Flows(from, to, stop),
        RowKind.Spans when hints.Sketched => Sketched(from, to, stop),
        RowKind.Alarms => Alarms(from, to, stop),
        RowKind.Spans => Spans(from, to, hints, stop),
        _ => Lines(kind, from, to, hints, stop),
    };

    /// <inheritdoc/>
    public async Task<IReadOnlySet<long>> Arriving(RowKind kind, long from, long to, CancellationToken stop)
    {
        var minutes = new HashSet<long>();
        // Rules are judged all the time: a minute in which no alarm changed is a quiet one.
        if (kind == RowKind.Alarms)
            return Enumerable.Range(0, (int)(to / 60_000 - from / 60_000) + 1).Select(i => from / 60_000 + i).ToHashSet();
        await using var command = database.CreateCommand("""
            select distinct minute from arrival_minute join cluster on cluster.id = cluster_id
            where signal = @signal and minute between @from and @to and (@cluster::text is null or name = @cluster) and (@visible::text[] is null or name = any(@visible))
            """);
        command.Parameters.AddWithValue("signal", kind switch { RowKind.Spans => "traces", RowKind.Flows => "flows", _ => "logs" });
        command.Parameters.AddWithValue("from", from / 60_000);
        command.Parameters.AddWithValue("to", to / 60_000);
        Scope(command);
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            minutes.Add(reader.GetInt64(0));
        return minutes;
    }

    /// <inheritdoc/>
    public long SinglesFrom => (DateTimeOffset.UtcNow - SignalRequest.SinglesKept).ToUnixTimeMilliseconds();

    /// <inheritdoc/>
    public async Task<long> Most(RowKind kind, long from, long to, CancellationToken stop)
    {
        if (kind != RowKind.Spans)
            return 0;
        await using var command = BlocksIn("span_block", "spans", 0, from, to, RowHints.None);
        command.CommandText = $"select coalesce(sum(spans), 0)::bigint from ({command.CommandText}) as blocks";
        await using var connection = await database.OpenConnectionAsync(stop);
        command.Connection = connection;
        return (long)(await command.ExecuteScalarAsync(stop))!;
    }

    /// <summary>All spans of a trace, whoever may see them: what is foreign is for the caller to mask.</summary>
    public async Task<IReadOnlyList<Span>> Trace(TraceId trace, CancellationToken stop)
    {
        var spans = new List<Span>();
        await foreach (var (_, payload, _) in Blocks("span_block", "spans", 0, 0, long.MaxValue, new RowHints([], trace.ToString()), stop))
            spans.AddRange(SpanBlock.OfTrace(payload!, trace));
        return [.. spans.OrderBy(span => span.Start)];
    }

    private async IAsyncEnumerable<RowBatch> Lines(RowKind kind, long from, long to, RowHints hints, [EnumeratorCancellation] CancellationToken stop)
    {
        // A new state collector reads the events that are there once more: each state of an event counts once.
        var seen = kind == RowKind.Events ? new HashSet<(string, string)>() : null;
        await foreach (var (_, payload, passed) in Blocks("log_block", "lines", kind == RowKind.Events ? 1 : 0, from, to, hints, stop))
        {
            var batch = payload is null ? new RowBatch(passed, []) : Lines(LogBlock.Open(payload), from, to, seen is null ? hints.Counted : null);
            yield return seen is null ? batch : batch with { Rows = [.. batch.Rows.Where(row => row["k8s.event.uid"].Text is not { } uid || seen.Add((uid, row["k8s.event.count"].Text ?? "")))] };
        }
    }

    private RowBatch Lines(IBlockRows rows, long from, long to, IReadOnlyCollection<string>? counted) =>
        counted is not null && rows is LogColumns columns && columns.Counts(counted)
            ? new RowBatch(0, columns.CountByMinute(from, to, labels => scope.Sees(labels["k8s.cluster.name"] ?? "", labels["k8s.namespace.name"])))
            : Kept(rows, from, to);

    private async IAsyncEnumerable<RowBatch> Spans(long from, long to, RowHints hints, [EnumeratorCancellation] CancellationToken stop)
    {
        await foreach (var (_, payload, passed) in Blocks("span_block", "spans", 0, from, to, hints, stop))
            yield return payload is null ? new RowBatch(passed, [])
                : SpanBlock.Open(payload) is var rows && hints.ByTrace && rows is SpanColumns columns ? new RowBatch(0, columns.Parts(from, to, labels => scope.Sees(labels["k8s.cluster.name"] ?? "", labels["k8s.namespace.name"])))
                : Kept(rows, from, to);
    }

    // Blocks that have sketches give them in place of their spans.
    private async IAsyncEnumerable<RowBatch> Sketched(long from, long to, [EnumeratorCancellation] CancellationToken stop)
    {
        await using var connection = await database.OpenConnectionAsync(stop);
        await using var command = BlocksIn("span_block", "sketch, case when sketch = '' then payload end", 0, from, to, RowHints.None);
        command.Connection = connection;
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            yield return reader.IsDBNull(2)
                ? new RowBatch(0, [.. SpanSketches.Decode((byte[])reader[1]).Where(cell => cell.Minute > from && cell.Minute <= to && scope.Sees(cell.Origin["k8s.cluster.name"] ?? "", cell.Origin["k8s.namespace.name"]))])
                : Kept(SpanBlock.Open((byte[])reader[2]), from, to);
    }

    private async IAsyncEnumerable<RowBatch> Alarms(long from, long to, [EnumeratorCancellation] CancellationToken stop)
    {
        await using var command = database.CreateCommand("""
            select cluster.name, alarm_event.at, rule_name, transition, severity, value, alarm_event.unit, labels from alarm_event join cluster on cluster.id = cluster_id
            where alarm_event.at > @from and alarm_event.at <= @to and (@cluster::text is null or name = @cluster) and (@visible::text[] is null or name = any(@visible))
            """);
        command.Parameters.AddWithValue("from", DateTimeOffset.FromUnixTimeMilliseconds(from).UtcDateTime);
        command.Parameters.AddWithValue("to", DateTimeOffset.FromUnixTimeMilliseconds(Math.Min(to, DateTimeOffset.MaxValue.ToUnixTimeMilliseconds())).UtcDateTime);
        Scope(command);
        var rows = new List<IRow>();
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
        {
            var alarm = new AlarmChange(reader.GetString(0), new DateTimeOffset(reader.GetDateTime(1)).ToUnixTimeMilliseconds(), reader.GetString(2), (AlarmTransition)reader.GetInt32(3),
                (Severity)reader.GetInt32(4), reader.IsDBNull(5) ? double.NaN : reader.GetDouble(5), reader.GetString(6), Labels.From(JsonSerializer.Deserialize<Dictionary<string, string>>(reader.GetString(7))!));
            if (scope.Sees(alarm.Cluster, alarm.Namespace))
                rows.Add(alarm);
        }
        yield return new RowBatch(0, rows);
    }

    private RowBatch Kept(IBlockRows rows, long from, long to)
    {
        var sees = new Dictionary<Labels, bool>(ReferenceEqualityComparer.Instance);
        var kept = new List<IRow>(rows.Count);
        var (before, visible) = (default(Labels), false);
        for (var i = 0; i < rows.Count; i++)
        {
            if (rows.Milliseconds(i) is var time && (time <= from || time > to))
                continue;
            // Rows of a block share the objects of their attributes, so each set is judged once.
            var labels = rows.Resource(i);
            if (!ReferenceEquals(labels, before) && !sees.TryGetValue(before = labels, out visible))
                sees[labels] = visible = scope.Sees(labels["k8s.cluster.name"] ?? "", labels["k8s.namespace.name"]);
            if (visible)
                kept.Add(rows[i]);
        }
        return new RowBatch(0, kept);
    }

    // Flows of a minute may lie in several blocks, so all are read before they are paired.
    private async IAsyncEnumerable<RowBatch> Flows(long from, long to, [EnumeratorCancellation] CancellationToken stop)
    {
        var clusters = new Dictionary<string, List<FlowMinute>>();
        await foreach (var (name, payload, _) in Blocks("flow_block", "rows", 0, from, to, RowHints.None, stop))
        {
            if (!clusters.TryGetValue(name, out var minutes))
                clusters[name] = minutes = [];
            minutes.AddRange(FlowBlock.Decode(payload!).Where(minute => minute.Key.Minute > from && minute.Key.Minute <= to));
        }
        foreach (var (name, minutes) in clusters)
        {
            var naming = books.Of(name);
            yield return new RowBatch(0, [.. FlowPairing.Once(minutes).Select(minute => naming.Name(minute, name, scope)).OfType<FlowRow>()]);
        }
    }

    private async IAsyncEnumerable<RowBatch> Singles(long from, long to, [EnumeratorCancellation] CancellationToken stop)
    {
        var clusters = new Dictionary<string, List<FlowRecord>>();
        await using (var command = database.CreateCommand("""
            select cluster.name, payload from flow_record join cluster on cluster.id = cluster_id
            where to_ms > @from and from_ms <= @to and (@cluster::text is null or name = @cluster) and (@visible::text[] is null or name = any(@visible))
            """))
        {
            command.Parameters.AddWithValue("from", Math.Max(from, SinglesFrom));
            command.Parameters.AddWithValue("to", to);
            Scope(command);
            await using var reader = await command.ExecuteReaderAsync(stop);
            while (await reader.ReadAsync(stop))
            {
                if (!clusters.TryGetValue(reader.GetString(0), out var flows))
                    clusters[reader.GetString(0)] = flows = [];
                flows.AddRange(FlowRecordBlock.Decode((byte[])reader[1]).Where(flow => flow.End > Math.Max(from, SinglesFrom) && flow.End <= to));
            }
        }
        foreach (var (name, flows) in clusters)
        {
            var naming = books.Of(name);
            yield return new RowBatch(0, [.. FlowPairing.Once(flows).Select(flow => naming.Name(FlowMinutes.Single(flow), name, scope) is { } row ? row with { SourcePort = flow.SourcePort, Seconds = (flow.End - flow.Start) / 1000.0 } : null).OfType<FlowRow>()]);
        }
    }

    // A block whose words cannot hold what is wanted is passed over; its lines still count where all of them are in the window and visible.
    private async IAsyncEnumerable<(string Cluster, byte[]? Payload, long Passed)> Blocks(
        string table, string count, int kind, long from, long to, RowHints hints, [EnumeratorCancellation] CancellationToken stop)
    {
        var byWord = hints.Words.Count > 0 && table != "flow_block";
        await using var connection = await database.OpenConnectionAsync(stop);
        // Blocks are merged at any time: what is looked at twice is looked at as of one moment.
        await using var transaction = byWord ? await connection.BeginTransactionAsync(System.Data.IsolationLevel.RepeatableRead, stop) : null;
        await using var command = BlocksIn(table, byWord ? $"{count}, from_ms, to_ms, day, {table}.id, {MayHold(hints.Words.Count)}" : "payload", kind, from, to, hints);
        (command.Connection, command.Transaction) = (connection, transaction);
        foreach (var (i, word) in (byWord ? hints.Words : []).Index())
            command.Parameters.AddWithValue($"word{i}", WordFilter.ProbesOf(word).Select(probe => (decimal)probe).ToArray());
        var wanted = new List<(string Cluster, DateOnly Day, long Id)>();
        await using (var reader = await command.ExecuteReaderAsync(stop))
            while (await reader.ReadAsync(stop))
            {
                if (!byWord)
                {
                    yield return (reader.GetString(0), (byte[])reader[1], 0);
                    continue;
                }
                // Where only a part of the lines is in the window or visible, they must be looked at to be counted.
                if (reader.GetBoolean(6) || reader.GetInt64(2) <= from || reader.GetInt64(3) > to || scope.Namespaces is not null)
                    wanted.Add((reader.GetString(0), reader.GetFieldValue<DateOnly>(4), reader.GetInt64(5)));
                else
                    yield return (reader.GetString(0), null, reader.GetInt32(1));
            }
        foreach (var some in wanted.Chunk(16))
        {
            await using var open = new NpgsqlCommand($"select payload from {table} where (day, id) in (select * from unnest(@days, @ids)) order by to_ms desc", connection, transaction);
            open.Parameters.AddWithValue("days", some.Select(block => block.Day).ToArray());
            open.Parameters.AddWithValue("ids", some.Select(block => block.Id).ToArray());
            await using var reader = await open.ExecuteReaderAsync(stop);
            while (await reader.ReadAsync(stop))
                yield return (some[0].Cluster, (byte[])reader[0], 0);
        }
    }

    // Looked at where the filters lie: of each only the few bytes with the wanted bits are read, and mostly the first says no.
    private static string MayHold(int words) => string.Join(" and ", Enumerable.Range(0, words).SelectMany(word => Enumerable.Range(1, WordFilter.Probes).Select(probe =>
        $"{(probe > WordFilter.FirstProbes ? $"probes < {probe} or " : "")}get_byte(substring(words from (div(mod(@word{word}[{probe}], octet_length(words) * 8), 8))::int + 1 for 1), 0) & (1 << (mod(@word{word}[{probe}], 8))::int) <> 0").Select(one => $"({one})")));

    private NpgsqlCommand BlocksIn(string table, string columns, int kind, long from, long to, RowHints hints)
    {
        var byTrace = hints.Trace is { } text && TraceId.Parse(text) is { IsEmpty: false } && table == "span_block";
        var command = new NpgsqlCommand($"""
            select cluster.name, {columns} from {table} join cluster on cluster.id = cluster_id
            where day between @first and @last and to_ms > @from and from_ms <= @to and (@cluster::text is null or name = @cluster) and (@visible::text[] is null or name = any(@visible))
            {(table == "log_block" ? "and kind = @kind" : "")} {(byTrace ? $"and (day, {table}.id) in (select day, block from trace_index where trace = @trace)" : "")}
            order by to_ms desc
            """);
        command.Parameters.AddWithValue("first", DayPartitions.DayOf(from));
        command.Parameters.AddWithValue("last", DayPartitions.DayOf(to));
        command.Parameters.AddWithValue("from", from);
        command.Parameters.AddWithValue("to", to);
        if (table == "log_block")
            command.Parameters.AddWithValue("kind", (short)kind);
        if (byTrace)
            command.Parameters.AddWithValue("trace", (long)TraceId.Parse(hints.Trace!).Low);
        Scope(command);
        return command;
    }

    private void Scope(NpgsqlCommand command)
    {
        command.Parameters.Add(new NpgsqlParameter("cluster", NpgsqlTypes.NpgsqlDbType.Text) { Value = (object?)cluster ?? DBNull.Value });
        command.Parameters.Add(new NpgsqlParameter("visible", NpgsqlTypes.NpgsqlDbType.Array | NpgsqlTypes.NpgsqlDbType.Text) { Value = (object?)scope.Clusters?.ToArray() ?? DBNull.Value });
    }
}
