using System.Collections.Concurrent;
using Npgsql;

namespace Skevin.Storage.Blocks;

/// <summary>Partitions of the big tables, one a day (UTC).</summary>
public sealed class DayPartitions(NpgsqlDataSource database)
{
    /// <summary>The partitioned tables.</summary>
    public static readonly string[] Tables = ["sample_batch", "sample_chunk", "sample_summary", "histogram_block", "log_block", "span_block", "trace_index", "flow_block"];

    /// <summary>The signal a table holds; summaries of samples are <c>summaries</c>.</summary>
    public static string SignalOf(string table) => table switch { "sample_summary" => "summaries", "log_block" => "logs", "span_block" or "trace_index" => "traces", "flow_block" => "flows", _ => "metrics" };

    private readonly ConcurrentDictionary<(string, DateOnly), bool> _made = new();

    /// <summary>Makes the partitions a request needs, outside its transaction.</summary>
    public async Task Ensure(IEnumerable<(string Table, DateOnly Day)> wanted, CancellationToken stop)
    {
        foreach (var (table, day) in wanted.Distinct().Where(pair => !_made.ContainsKey(pair)))
        {
            await using var connection = await database.OpenConnectionAsync(stop);
            await using var transaction = await connection.BeginTransactionAsync(stop);
            await using var command = new NpgsqlCommand($"""
                select pg_advisory_xact_lock(7301);
                create table if not exists {table}_{day:yyyyMMdd} partition of {table} for values from ('{day:yyyy-MM-dd}') to ('{day.AddDays(1):yyyy-MM-dd}');
                """, connection, transaction);
            await command.ExecuteNonQueryAsync(stop);
            await transaction.CommitAsync(stop);
            _made[(table, day)] = true;
        }
    }

    /// <summary>Detaches and drops partitions older than a day; summaries have a day of their own.</summary>
    public Task DropBefore(DateOnly first, DateOnly firstSummary, CancellationToken stop) => DropBefore(signal => signal == "summaries" ? firstSummary : first, stop);

    /// <summary>Detaches and drops partitions older than the day each signal is kept from.</summary>
    public async Task DropBefore(Func<string, DateOnly> first, CancellationToken stop)
    {
        foreach (var table in Tables)
        {
            var day = first(SignalOf(table));
            var old = new List<string>();
            await using (var command = database.CreateCommand($"select inhrelid::regclass::text from pg_inherits where inhparent = '{table}'::regclass"))
            await using (var reader = await command.ExecuteReaderAsync(stop))
                while (await reader.ReadAsync(stop))
                    if (DateOnly.TryParseExact(reader.GetString(0)[^8..], "yyyyMMdd", out var own) && own < day)
                        old.Add(reader.GetString(0));
            foreach (var partition in old)
            {
                await using var drop = database.CreateCommand($"alter table {table} detach partition {partition}; drop table {partition};");
                await drop.ExecuteNonQueryAsync(stop);
            }
        }
    }

    /// <summary>Drops the oldest days of samples and rows, never today's, until what is left is no larger than a bound. Summaries stay.</summary>
    /// <returns>The days that went.</returns>
    public async Task<IReadOnlyList<DateOnly>> DropLargest(long most, CancellationToken stop)
    {
        var days = new List<(DateOnly Day, long Bytes)>();
        await using (var command = database.CreateCommand("""
            select right(relname, 8), sum(pg_total_relation_size(pg_class.oid))::bigint from pg_inherits join pg_class on pg_class.oid = inhrelid
            where inhparent = any(@tables::regclass[]) and relname ~ '_[0-9]{8}$' group by 1 order by 1
            """))
        {
            command.Parameters.AddWithValue("tables", Tables.Where(table => table != "sample_summary").ToArray());
            await using var reader = await command.ExecuteReaderAsync(stop);
            while (await reader.ReadAsync(stop))
                days.Add((DateOnly.ParseExact(reader.GetString(0), "yyyyMMdd"), reader.GetInt64(1)));
        }
        var (dropped, size) = (new List<DateOnly>(), days.Sum(day => day.Bytes));
        foreach (var (day, bytes) in days.SkipLast(1).TakeWhile(_ => size > most))
        {
            dropped.Add(day);
            size -= bytes;
        }
        if (dropped.Count > 0)
            await DropBefore(dropped[^1].AddDays(1), DateOnly.MinValue, stop);
        return dropped;
    }

    /// <summary>The day (UTC) of a moment in epoch milliseconds.</summary>
    public static DateOnly DayOf(long ms) => DateOnly.FromDateTime(DateTimeOffset.FromUnixTimeMilliseconds(
        Math.Clamp(ms, DateTimeOffset.UnixEpoch.ToUnixTimeMilliseconds(), 253_402_300_799_999)).UtcDateTime);

    /// <summary>Start of the day (UTC) of a moment, in epoch milliseconds.</summary>
    public static long StartOf(DateTimeOffset moment) => new DateTimeOffset(moment.UtcDateTime.Date, TimeSpan.Zero).ToUnixTimeMilliseconds();
}
