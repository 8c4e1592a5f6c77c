using Npgsql;
using Skevin.Core.Series;

namespace Skevin.Storage.Metrics;

/// <summary>
/// The widest summaries, a row for each metric and whole day in place of one for each two hours, because weeks are asked for by the hour and most of the time then goes into opening rows.
/// Made of the narrower ones when the day is over; whatever folds samples of that day takes them away again in its own transaction.
/// </summary>
internal sealed class DaySummaries(NpgsqlDataSource database)
{
    /// <summary>Milliseconds of a day.</summary>
    public const long Day = 24 * 3_600_000;

    private static readonly long Width = SummaryRun.Widths[^1];

    // Days nothing is left to do for, as far as this process knows.
    private readonly HashSet<DateOnly> _done = [];

    /// <summary>The width the rows of two hours have that answer for a width.</summary>
    public static long OfWindow(long width) => width == Width ? SummaryRun.Widths[^2] : width;

    /// <summary>Samples of these days were folded.</summary>
    public void Touched(IEnumerable<DateOnly> days) => _done.ExceptWith(days);

    /// <summary>Takes the summary of a day away, because samples of it are folded.</summary>
    public static async Task Forget(NpgsqlConnection connection, DateOnly day, int cluster, string metric, CancellationToken stop)
    {
        await using var command = new NpgsqlCommand("delete from sample_summary where day = @day and metric = @metric and width_ms = @width and cluster_id = @cluster", connection);
        command.Parameters.AddWithValue("day", day);
        command.Parameters.AddWithValue("metric", metric);
        command.Parameters.AddWithValue("width", (int)Width);
        command.Parameters.AddWithValue("cluster", cluster);
        await command.ExecuteNonQueryAsync(stop);
    }

    /// <summary>Makes what is missing of the days that are over.</summary>
    /// <param name="until">Epoch milliseconds all is folded until.</param>
    /// <param name="stop">Cancels.</param>
    public async Task Run(long until, CancellationToken stop)
    {
        foreach (var metrics in await Missing(DateOnly.FromDateTime(DateTimeOffset.FromUnixTimeMilliseconds(until).UtcDateTime), stop))
        {
            foreach (var (cluster, metric) in metrics)
                await Make(metrics.Key, cluster, metric, stop);
            _done.Add(metrics.Key);
        }
    }

    private async Task<ILookup<DateOnly, (int Cluster, string Metric)>> Missing(DateOnly before, CancellationToken stop)
    {
        await using var command = database.CreateCommand("""
            select day, cluster_id, metric from sample_summary where width_ms = @narrow and day < @before and day <> all(@done)
            except select day, cluster_id, metric from sample_summary where width_ms = @wide and day < @before
            """);
        command.Parameters.AddWithValue("narrow", (int)OfWindow(Width));
        command.Parameters.AddWithValue("wide", (int)Width);
        command.Parameters.AddWithValue("before", before);
        command.Parameters.AddWithValue("done", _done.ToArray());
        var missing = new List<(DateOnly Day, int Cluster, string Metric)>();
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            missing.Add((reader.GetFieldValue<DateOnly>(0), reader.GetInt32(1), reader.GetString(2)));
        return missing.ToLookup(one => one.Day, one => (one.Cluster, one.Metric));
    }

    private async Task Make(DateOnly day, int cluster, string metric, CancellationToken stop)
    {
        await using var connection = await database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(stop);
        var runs = new SortedDictionary<long, (bool Counter, List<SummaryRun> Runs)>();
        await using (var read = new NpgsqlCommand("select payload from sample_summary where day = @day and metric = @metric and width_ms = @width and cluster_id = @cluster order by to_ms for update", connection, transaction))
        {
            Add(read, OfWindow(Width));
            await using var reader = await read.ExecuteReaderAsync(stop);
            while (await reader.ReadAsync(stop))
                foreach (var (series, counter, run) in SummaryChunk.Decode((byte[])reader[0], _ => true))
                {
                    if (!runs.TryGetValue(series, out var own))
                        runs[series] = own = (counter, []);
                    own.Runs.Add(SummaryRun.Joined([run], Width));
                }
        }
        await using var write = new NpgsqlCommand("""
            insert into sample_summary (day, cluster_id, metric, width_ms, to_ms, payload) values (@day, @cluster, @metric, @width, @to, @payload)
            on conflict (day, metric, width_ms, to_ms, cluster_id) do update set payload = excluded.payload
            """, connection, transaction);
        Add(write, Width);
        write.Parameters.AddWithValue("to", new DateTimeOffset(day.AddDays(1).ToDateTime(TimeOnly.MinValue), TimeSpan.Zero).ToUnixTimeMilliseconds());
        write.Parameters.AddWithValue("payload", SummaryChunk.Encode([.. runs.Select(one => (one.Key, one.Value.Counter, SummaryRun.Following(one.Value.Runs)))]));
        await write.ExecuteNonQueryAsync(stop);
        await transaction.CommitAsync(stop);

        void Add(NpgsqlCommand command, long width)
        {
            command.Parameters.AddWithValue("day", day);
            command.Parameters.AddWithValue("metric", metric);
            command.Parameters.AddWithValue("width", (int)width);
            command.Parameters.AddWithValue("cluster", cluster);
        }
    }
}
