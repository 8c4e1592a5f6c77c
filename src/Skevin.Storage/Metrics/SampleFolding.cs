using Npgsql;
using NpgsqlTypes;
using Skevin.Core.Series;
using Skevin.Storage.Blocks;

namespace Skevin.Storage.Metrics;

/// <summary>
/// Turns batch rows into chunks and summaries of them when their two hours are over, each time in one transaction: a reader sees either the one or the other, and a
/// stop in the middle changes nothing. Samples that come late join the chunks that are there; of two for the same moment the first stays.
/// </summary>
public sealed class SampleFolding(SampleStore store, SeriesIndex index, DayPartitions partitions, TimeProvider clock)
{
    /// <summary>Milliseconds a chunk covers: an even part of a day, some 500 samples at 15 s.</summary>
    public const long Window = 2 * 3_600_000;

    /// <summary>How long after their end two hours are left open for what comes late.</summary>
    public static readonly TimeSpan Settled = TimeSpan.FromMinutes(20);

    /// <summary>Batches younger than this are left alone.</summary>
    public static readonly TimeSpan Young = TimeSpan.FromMinutes(5);

    private const long MostSamples = 2_000_000;

    private readonly DaySummaries _days = new(store.Database);

    private sealed record Batch(DateOnly Day, long Id, List<SeriesSample> Samples);

    /// <summary>Folds all there is to fold now.</summary>
    /// <returns>How many batch rows were folded.</returns>
    public async Task<int> Run(CancellationToken stop)
    {
        var folded = 0;
        while (await Once(stop) is var count && count > 0)
            folded += count;
        await _days.Run(StartOf((clock.GetUtcNow() - Settled).ToUnixTimeMilliseconds()), stop);
        return folded;
    }

    private async Task<int> Once(CancellationToken stop)
    {
        var batches = await Oldest(stop);
        if (batches.Count == 0)
            return 0;
        var windows = batches.SelectMany(batch => batch.Samples).Select(sample => StartOf(sample.Sample.Time)).Distinct().Order().ToArray();
        await partitions.Ensure(windows.SelectMany(window => new[] { ("sample_chunk", DayPartitions.DayOf(window)), ("sample_summary", DayPartitions.DayOf(window)) }), stop);
        if (batches.SelectMany(batch => batch.Samples).Any(sample => index.Of(sample.Series) is null))
            await store.LoadSeries(index, stop);

        await using var connection = await store.Database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(stop);
        foreach (var window in windows)
        {
            var fresh = batches.SelectMany(batch => batch.Samples).Where(sample => StartOf(sample.Sample.Time) == window)
                .Select(sample => (Series: index.Of(sample.Series), sample.Sample)).Where(pair => pair.Series is not null)
                .GroupBy(pair => (pair.Series!.Cluster, pair.Series.Key.Metric), pair => new SeriesSample(pair.Series!.Id, pair.Sample));
            foreach (var metric in fresh)
                await Fold(connection, transaction, window, metric.Key.Cluster, metric.Key.Metric, [.. metric], stop);
        }
        foreach (var day in batches.GroupBy(batch => batch.Day))
        {
            await using var delete = new NpgsqlCommand("delete from sample_batch where day = @day and id = any(@ids)", connection, transaction);
            delete.Parameters.AddWithValue("day", day.Key);
            delete.Parameters.AddWithValue("ids", day.Select(batch => batch.Id).ToArray());
            // Retention was here meanwhile: what it has dropped must not come back.
            if (await delete.ExecuteNonQueryAsync(stop) != day.Count())
                return 0;
        }
        await transaction.CommitAsync(stop);
        _days.Touched(windows.Select(DayPartitions.DayOf));
        return batches.Count;
    }

    private async Task<List<Batch>> Oldest(CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var batches = new List<Batch>();
        await using var command = store.Database.CreateCommand("""
            select day, id, payload from (
                select day, id, payload, sum(samples) over (order by from_ms / @window, id) - samples as before
                from sample_batch where to_ms < @over and received_at < @young
            ) as settled where before < @most order by id
            """);
        command.Parameters.AddWithValue("window", Window);
        command.Parameters.AddWithValue("over", StartOf((now - Settled).ToUnixTimeMilliseconds()));
        command.Parameters.AddWithValue("young", now.UtcDateTime - Young);
        command.Parameters.AddWithValue("most", MostSamples);
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            batches.Add(new Batch(reader.GetFieldValue<DateOnly>(0), reader.GetInt64(1), SampleBatch.Decode((byte[])reader[2])));
        return batches;
    }

    private async Task Fold(NpgsqlConnection connection, NpgsqlTransaction transaction, long window, int cluster, string metric, IReadOnlyList<SeriesSample> fresh, CancellationToken stop)
    {
        var day = DayPartitions.DayOf(window);
        var (before, there) = (new List<long>(), new List<SeriesSample>());
        await using (var read = new NpgsqlCommand("select id, payload from sample_chunk where day = @day and metric = @metric and cluster_id = @cluster and from_ms > @from and to_ms <= @to", connection, transaction))
        {
            read.Parameters.AddWithValue("day", day);
            read.Parameters.AddWithValue("metric", metric);
            read.Parameters.AddWithValue("cluster", cluster);
            read.Parameters.AddWithValue("from", window);
            read.Parameters.AddWithValue("to", window + Window);
            await using var reader = await read.ExecuteReaderAsync(stop);
            while (await reader.ReadAsync(stop))
            {
                before.Add(reader.GetInt64(0));
                there.AddRange(SampleChunk.Decode((byte[])reader[1], _ => true).SelectMany(run => run.Samples.Select(sample => new SeriesSample(run.Series, sample))));
            }
        }
        if (before.Count > 0)
        {
            await using var delete = new NpgsqlCommand("delete from sample_chunk where day = @day and id = any(@ids)", connection, transaction);
            delete.Parameters.AddWithValue("day", day);
            delete.Parameters.AddWithValue("ids", before.ToArray());
            await delete.ExecuteNonQueryAsync(stop);
        }
        SeriesRun[] runs = [.. there.Concat(fresh).GroupBy(sample => sample.Series, sample => sample.Sample).Select(series => new SeriesRun(series.Key, SampleRuns.InOrder([.. series]))).OrderBy(run => run.Series)];
        await Copy(connection, day, cluster, metric, runs, stop);
        await Summarise(connection, day, cluster, metric, window + Window, runs, stop);
    }

    private static async Task Copy(NpgsqlConnection connection, DateOnly day, int cluster, string metric, SeriesRun[] runs, CancellationToken stop)
    {
        await using var copy = await connection.BeginBinaryImportAsync("copy sample_chunk (day, cluster_id, metric, from_ms, to_ms, samples, payload) from stdin (format binary)", stop);
        foreach (var together in SampleChunk.Together(runs))
        {
            var times = together[0].Samples;
            await copy.StartRowAsync(stop);
            await copy.WriteAsync(day, NpgsqlDbType.Date, stop);
            await copy.WriteAsync(cluster, NpgsqlDbType.Integer, stop);
            await copy.WriteAsync(metric, NpgsqlDbType.Text, stop);
            await copy.WriteAsync(times[0].Time, NpgsqlDbType.Bigint, stop);
            await copy.WriteAsync(times[^1].Time, NpgsqlDbType.Bigint, stop);
            await copy.WriteAsync(together.Sum(run => run.Samples.Count), NpgsqlDbType.Integer, stop);
            await copy.WriteAsync(SampleChunk.Encode(together), NpgsqlDbType.Bytea, stop);
        }
        await copy.CompleteAsync(stop);
    }

    private async Task Summarise(NpgsqlConnection connection, DateOnly day, int cluster, string metric, long end, SeriesRun[] runs, CancellationToken stop)
    {
        // A series that was removed meanwhile has no samples either.
        var narrow = runs.Where(run => index.Of(run.Series) is not null)
            .Select(run => (run.Series, Counter: index.Of(run.Series)!.Key.Kind == SeriesKind.Counter, Run: SummaryRun.Of([.. run.Samples], SummaryRun.Widths[0]))).ToArray();
        await DaySummaries.Forget(connection, day, cluster, metric, stop);
        foreach (var width in SummaryRun.Widths.Where(width => width == DaySummaries.OfWindow(width)))
        {
            await using var write = new NpgsqlCommand("""
                insert into sample_summary (day, cluster_id, metric, width_ms, to_ms, payload) values (@day, @cluster, @metric, @width, @to, @payload)
                on conflict (day, metric, width_ms, to_ms, cluster_id) do update set payload = excluded.payload
                """, connection);
            write.Parameters.AddWithValue("day", day);
            write.Parameters.AddWithValue("cluster", cluster);
            write.Parameters.AddWithValue("metric", metric);
            write.Parameters.AddWithValue("width", (int)width);
            write.Parameters.AddWithValue("to", end);
            write.Parameters.AddWithValue("payload", SummaryChunk.Encode([.. narrow.Select(one => one with { Run = SummaryRun.Joined([one.Run], width) })]));
            await write.ExecuteNonQueryAsync(stop);
        }
    }

    /// <summary>Start of the two hours (start, start + 2 h] a moment lies in.</summary>
    public static long StartOf(long time) => SummaryRun.EndOf(time, Window) - Window;
}
