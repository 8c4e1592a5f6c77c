using Npgsql;
using Skevin.Core.Blocks;
using Skevin.Core.Logs;
using Skevin.Core.Series;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;

namespace Skevin.Storage.Blocks;

/// <summary>
/// Makes large blocks of small ones, each time in one transaction: a reader sees either the small ones or the large one, and a stop in the
/// middle changes nothing.
/// </summary>
public sealed class BlockMerging(NpgsqlDataSource database, TimeProvider clock)
{
    /// <summary>Blocks younger than this are left alone, so that a merge does not run after every request.</summary>
    public static readonly TimeSpan Young = TimeSpan.FromSeconds(20);

    /// <summary>Merges all there is to merge now.</summary>
    /// <returns>How many blocks were replaced.</returns>
    public async Task<int> Run(CancellationToken stop)
    {
        var replaced = 0;
        foreach (var table in SignalBlocks.CountColumn.Keys)
            foreach (var together in MergePlan.Of(await Small(table, stop), clock.GetUtcNow().ToUnixTimeMilliseconds()))
            {
                stop.ThrowIfCancellationRequested();
                await Merge(table, together, stop);
                replaced += together.Count;
            }
        return replaced;
    }

    private async Task<List<BlockSize>> Small(string table, CancellationToken stop)
    {
        var small = new List<BlockSize>();
        var count = SignalBlocks.CountColumn[table];
        await using var command = database.CreateCommand($"select day, cluster_id, {(table == "log_block" ? "kind" : "0::smallint")}, id, from_ms, {count} from {table} where {count} < @most and received_at < @before");
        command.Parameters.AddWithValue("most", MergePlan.Whole / 2);
        command.Parameters.AddWithValue("before", clock.GetUtcNow().UtcDateTime - Young);
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            small.Add(new BlockSize(new Group(reader.GetFieldValue<DateOnly>(0), reader.GetInt32(1), reader.GetInt16(2)).ToString(), reader.GetInt64(3), reader.GetInt64(4), reader.GetInt32(5)));
        return small;
    }

    // Written into a text, so that the plan need not know what a group is.
    private readonly record struct Group(DateOnly Day, int Cluster, short Kind)
    {
        public override string ToString() => $"{Day:yyyyMMdd} {Cluster} {Kind}";

        public static Group Of(string text) =>
            text.Split(' ') is [var day, var cluster, var kind] ? new(DateOnly.ParseExact(day, "yyyyMMdd"), int.Parse(cluster), short.Parse(kind)) : throw new FormatException(text);
    }

    private async Task Merge(string table, IReadOnlyList<BlockSize> together, CancellationToken stop)
    {
        var group = Group.Of(together[0].Group);
        var ids = together.Select(block => block.Id).ToArray();
        await using var connection = await database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(stop);
        var (payloads, received) = (new List<byte[]>(ids.Length), DateTime.MinValue);
        await using (var read = new NpgsqlCommand($"select payload, received_at from {table} where day = @day and id = any(@ids) order by from_ms, id", connection, transaction))
        {
            read.Parameters.AddWithValue("day", group.Day);
            read.Parameters.AddWithValue("ids", ids);
            await using var reader = await read.ExecuteReaderAsync(stop);
            while (await reader.ReadAsync(stop))
            {
                payloads.Add((byte[])reader[0]);
                received = reader.GetDateTime(1) > received ? reader.GetDateTime(1) : received;
            }
        }
        // Retention was here meanwhile.
        if (payloads.Count != ids.Length)
            return;
        Span[] spans = [];
        var merged = table switch
        {
            "log_block" => SignalBlock.OfLines(group.Cluster, group.Day, group.Kind, [.. payloads.SelectMany(LogBlock.Decode)], received),
            "span_block" => SignalBlock.OfSpans(group.Cluster, group.Day, spans = [.. payloads.SelectMany(SpanBlock.Decode)], received),
            "histogram_block" => SignalBlock.OfHistograms(group.Cluster, group.Day, [.. payloads.SelectMany(HistogramBlock.Decode)], received),
            _ => SignalBlock.OfFlows(group.Cluster, group.Day, [.. FlowMinutes.Sum(payloads.SelectMany(payload => FlowBlock.Decode(payload)))], received),
        };
        var number = (await SignalBlocks.Write(connection, transaction, [merged], stop))[0];
        await using (var delete = new NpgsqlCommand($"delete from {table} where day = @day and id = any(@ids)", connection, transaction))
        {
            delete.Parameters.AddWithValue("day", group.Day);
            delete.Parameters.AddWithValue("ids", ids);
            if (await delete.ExecuteNonQueryAsync(stop) != ids.Length)
                return;
        }
        if (table == "span_block")
        {
            var traces = spans.Select(span => (long)span.Trace.Low).Distinct().ToArray();
            await using var forget = new NpgsqlCommand("delete from trace_index where day = @day and trace = any(@traces) and block = any(@ids)", connection, transaction);
            forget.Parameters.AddWithValue("day", group.Day);
            forget.Parameters.AddWithValue("traces", traces);
            forget.Parameters.AddWithValue("ids", ids);
            await forget.ExecuteNonQueryAsync(stop);
            await SignalBlocks.WriteTraces(connection, traces.Select(trace => (group.Day, trace, number)), stop);
        }
        await transaction.CommitAsync(stop);
    }
}
