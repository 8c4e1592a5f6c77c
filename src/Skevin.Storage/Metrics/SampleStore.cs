using System.Runtime.InteropServices;
using System.Text.Json;
using Npgsql;
using NpgsqlTypes;
using Skevin.Core.Series;
using Skevin.Storage.Blocks;

namespace Skevin.Storage.Metrics;

/// <summary>Series and samples in PostgreSQL: COPY in, batch rows out.</summary>
public sealed class SampleStore(NpgsqlDataSource database)
{
    /// <summary>The connections.</summary>
    public NpgsqlDataSource Database => database;

    /// <summary>Reads all series into an index.</summary>
    public Task LoadSeries(SeriesIndex index, CancellationToken stop) => LoadSeries(index, null, stop);

    /// <summary>Reads some series into an index; all where <paramref name="which"/> is null.</summary>
    public async Task LoadSeries(SeriesIndex index, IReadOnlyCollection<long>? which, CancellationToken stop)
    {
        await using var command = database.CreateCommand("select id, cluster_id, metric, kind, unit, attributes, source from series where @all or id = any(@ids)");
        command.Parameters.AddWithValue("all", which is null);
        command.Parameters.AddWithValue("ids", which?.ToArray() ?? []);
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            index.Add(new StoredSeries(
                reader.GetInt64(0), reader.GetInt32(1),
                new SeriesKey(reader.GetString(2), (SeriesKind)reader.GetInt16(3), reader.GetString(4),
                    Labels.From(JsonSerializer.Deserialize<Dictionary<string, string>>(reader.GetString(5))!)), reader.IsDBNull(6) ? null : reader.GetString(6)));
    }

    /// <summary>Numbers of series, made where they are new. Two servers may do this at once.</summary>
    public static async Task<IReadOnlyDictionary<(int, SeriesKey), long>> Resolve(
        NpgsqlConnection connection, NpgsqlTransaction transaction, IReadOnlyDictionary<(int Cluster, SeriesKey Key), string?> keys, CancellationToken stop)
    {
        var ordered = keys.Select(pair => (pair.Key.Cluster, pair.Key.Key, Source: pair.Value, Hash: pair.Key.Key.Hash(pair.Key.Cluster)))
            .OrderBy(item => Convert.ToHexString(item.Hash), StringComparer.Ordinal).ToArray();
        await using (var insert = new NpgsqlCommand("""
            insert into series (cluster_id, hash, metric, kind, unit, attributes, source)
            select * from unnest(@cluster, @hash, @metric, @kind, @unit, @attributes::jsonb[], @source) on conflict (hash) do nothing
            """, connection, transaction))
        {
            insert.Parameters.AddWithValue("cluster", ordered.Select(item => item.Cluster).ToArray());
            insert.Parameters.AddWithValue("hash", ordered.Select(item => item.Hash).ToArray());
            insert.Parameters.AddWithValue("metric", ordered.Select(item => item.Key.Metric).ToArray());
            insert.Parameters.AddWithValue("kind", ordered.Select(item => (short)item.Key.Kind).ToArray());
            insert.Parameters.AddWithValue("unit", ordered.Select(item => item.Key.Unit).ToArray());
            insert.Parameters.AddWithValue("attributes", ordered.Select(item => JsonSerializer.Serialize(item.Key.Labels.ToDictionary(pair => pair.Key, pair => pair.Value))).ToArray());
            insert.Parameters.Add(new NpgsqlParameter("source", NpgsqlDbType.Array | NpgsqlDbType.Text) { Value = ordered.Select(item => item.Source).ToArray() });
            await insert.ExecuteNonQueryAsync(stop);
        }
        await using var select = new NpgsqlCommand("select id, hash from series where hash = any(@hash)", connection, transaction);
        select.Parameters.AddWithValue("hash", ordered.Select(item => item.Hash).ToArray());
        var ids = new Dictionary<string, long>();
        await using var reader = await select.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            ids[Convert.ToHexString((byte[])reader[1])] = reader.GetInt64(0);
        return ordered.ToDictionary(item => (item.Cluster, item.Key), item => ids[Convert.ToHexString(item.Hash)]);
    }

    /// <summary>Copies fresh samples in, a batch row for each cluster and day.</summary>
    internal static async Task Copy(NpgsqlConnection connection, IReadOnlyList<FreshRun<Sample>> runs, DateTimeOffset received, CancellationToken stop)
    {
        if (runs.Count == 0)
            return;
        await using var copy = await connection.BeginBinaryImportAsync(
            "copy sample_batch (day, cluster_id, from_ms, to_ms, samples, received_at, payload) from stdin (format binary)", stop);
        foreach (var cluster in runs.GroupBy(run => run.Cluster))
            foreach (var (day, ofDay) in ByDay([.. cluster]))
            {
                await copy.StartRowAsync(stop);
                await copy.WriteAsync(day, NpgsqlDbType.Date, stop);
                await copy.WriteAsync(cluster.Key, NpgsqlDbType.Integer, stop);
                await copy.WriteAsync(ofDay.Min(run => run.Samples[0].Time), NpgsqlDbType.Bigint, stop);
                await copy.WriteAsync(ofDay.Max(run => run.Samples[^1].Time), NpgsqlDbType.Bigint, stop);
                await copy.WriteAsync(ofDay.Sum(run => run.Samples.Count), NpgsqlDbType.Integer, stop);
                await copy.WriteAsync(received.UtcDateTime, NpgsqlDbType.TimestampTz, stop);
                await copy.WriteAsync(SampleBatch.Encode(ofDay), NpgsqlDbType.Bytea, stop);
            }
        await copy.CompleteAsync(stop);
    }

    private static IEnumerable<(DateOnly, IReadOnlyList<SeriesRun>)> ByDay(IReadOnlyList<FreshRun<Sample>> runs)
    {
        var (first, last) = (DayPartitions.DayOf(runs.Min(run => run.Samples[0].Time)), DayPartitions.DayOf(runs.Max(run => run.Samples[^1].Time)));
        // Nearly always all of it is of one day.
        return first == last ? [(first, [.. runs.Select(run => new SeriesRun(run.Series, run.Samples))])]
            : runs.SelectMany(run => run.Samples.GroupBy(sample => DayPartitions.DayOf(sample.Time)).Select(day => (Day: day.Key, Run: new SeriesRun(run.Series, [.. day]))))
                .GroupBy(one => one.Day, one => one.Run).Select(day => (day.Key, (IReadOnlyList<SeriesRun>)[.. day]));
    }

    /// <summary>Samples in chunks and batches that touch from &lt; time ≤ to, as of one moment; what was committed first comes first.</summary>
    /// <param name="from">Epoch milliseconds, excluded.</param>
    /// <param name="to">Epoch milliseconds, included.</param>
    /// <param name="metric">Only of this metric where it is folded; null for all.</param>
    /// <param name="wanted">Which series.</param>
    /// <param name="then">Takes the samples of a series, some at a time; also such as lie outside the window.</param>
    /// <param name="stop">Cancels.</param>
    public async Task Read(long from, long to, string? metric, Func<long, bool> wanted, Action<long, Sample> then, CancellationToken stop)
    {
        await using var connection = await database.OpenConnectionAsync(stop);
        await Read(connection, from, to, metric, wanted, then, stop);
    }

    private static async Task Read(NpgsqlConnection connection, long from, long to, string? metric, Func<long, bool> wanted, Action<long, Sample> then, CancellationToken stop)
    {
        await using var command = new NpgsqlCommand("""
            select folded, payload from (
                select true as folded, id, payload from sample_chunk
                where day between @first and @last and to_ms > @from and from_ms <= @to and (@metric::text is null or metric = @metric)
                union all
                select false, id, payload from sample_batch where day between @first and @last and to_ms > @from and from_ms <= @to
            ) as stored order by folded desc, id
            """, connection);
        AddWindow(command, from, to);
        command.Parameters.Add(new NpgsqlParameter("metric", NpgsqlDbType.Text) { Value = (object?)metric ?? DBNull.Value });
        await using var reader = await command.ExecuteReaderAsync(stop);
        await DecodingBeside.Run(
            async () => await reader.ReadAsync(stop) ? new Stored(reader.GetBoolean(0), (byte[])reader[1]) : null,
            stored => (Runs: stored.Folded ? SampleChunk.Decode(stored.Payload, wanted) : [], Singles: stored.Folded ? [] : SampleBatch.Decode(stored.Payload)),
            (_, decoded) =>
            {
                foreach (var (series, samples) in decoded.Runs)
                    foreach (var sample in samples)
                        then(series, sample);
                foreach (var (series, sample) in decoded.Singles)
                    if (wanted(series))
                        then(series, sample);
            });
    }

    private sealed record Stored(bool Folded, byte[] Payload);

    private sealed record StoredSummary(long End, long Width, byte[] Payload);

    /// <summary>Histograms of blocks that touch from &lt; time ≤ to; what was committed first comes first.</summary>
    /// <param name="from">Epoch milliseconds, excluded.</param>
    /// <param name="to">Epoch milliseconds, included.</param>
    /// <param name="wanted">Which series.</param>
    /// <param name="then">Takes the samples, also such as lie outside the window.</param>
    /// <param name="stop">Cancels.</param>
    public async Task ReadHistograms(long from, long to, Func<long, bool> wanted, Action<long, HistogramSample> then, CancellationToken stop)
    {
        await using var command = database.CreateCommand("select payload from histogram_block where day between @first and @last and to_ms > @from and from_ms <= @to order by received_at, id");
        AddWindow(command, from, to);
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            foreach (var (series, sample) in HistogramBlock.Decode((byte[])reader[0]))
                if (wanted(series))
                    then(series, sample);
    }

    /// <summary>Summaries of a metric over whole windows of <see cref="SampleFolding.Window"/>, as of one moment. Where samples wait to be folded, or were folded before there were such summaries, they are summarised here.</summary>
    /// <param name="from">Start of a window, epoch milliseconds, excluded.</param>
    /// <param name="to">End of a window, included.</param>
    /// <param name="metric">The metric.</param>
    /// <param name="width">One of <see cref="SummaryRun.Widths"/>.</param>
    /// <param name="wanted">Receives the runs of each series that is wanted, each with the end of its window, in any order.</param>
    /// <param name="headFrom">Windows that begin here or later and wait to be folded are left to the head.</param>
    /// <param name="stop">Cancels.</param>
    /// <returns>Ends of the windows that were left.</returns>
    public async Task<IReadOnlyList<long>> ReadSummaries(long from, long to, string metric, long width, IReadOnlyDictionary<long, List<(long End, SummaryRun Run)>> wanted, long headFrom, CancellationToken stop)
    {
        await using var connection = await database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(System.Data.IsolationLevel.RepeatableRead, stop);
        var open = await Unfolded(connection, from, to, metric, width, stop);
        await ReadKept(connection, from, to, metric, width, wanted, open, stop);
        foreach (var end in open.Where(end => end - SampleFolding.Window < headFrom))
        {
            var samples = new Dictionary<long, List<Sample>>();
            await Read(connection, end - SampleFolding.Window, end, metric, wanted.ContainsKey, (series, sample) =>
            {
                if (SummaryRun.EndOf(sample.Time, SampleFolding.Window) == end)
                    (CollectionsMarshal.GetValueRefOrAddDefault(samples, series, out _) ??= []).Add(sample);
            }, stop);
            foreach (var (series, own) in samples)
                wanted[series].Add((end, SummaryRun.Of(SampleRuns.InOrder(own), width)));
        }
        return [.. open.Where(end => end - SampleFolding.Window >= headFrom)];
    }

    // Whole days first where they are kept at this width, then the windows no such day holds.
    private static async Task ReadKept(NpgsqlConnection connection, long from, long to, string metric, long width, IReadOnlyDictionary<long, List<(long End, SummaryRun Run)>> wanted, List<long> open, CancellationToken stop)
    {
        var (ofWindow, days) = (DaySummaries.OfWindow(width), new HashSet<(DateOnly Day, int Cluster)>());
        foreach (var stored in width == ofWindow ? new[] { width } : [width, ofWindow])
        {
            await using var command = new NpgsqlCommand("""
                select day, cluster_id, to_ms, payload from sample_summary
                where day between @first and @last and metric = @metric and width_ms = @width and to_ms > @from and to_ms <= @to
                order by day, to_ms
                """, connection);
            AddWindow(command, from, to);
            command.Parameters.AddWithValue("metric", metric);
            command.Parameters.AddWithValue("width", (int)stored);
            await using var reader = await command.ExecuteReaderAsync(stop);
            await DecodingBeside.Run(
                async () =>
                {
                    while (await reader.ReadAsync(stop))
                        if (Takes(reader.GetFieldValue<DateOnly>(0), reader.GetInt32(1), reader.GetInt64(2)))
                            return new StoredSummary(reader.GetInt64(2), stored, (byte[])reader[3]);
                    return null;
                },
                block => SummaryChunk.Decode(block.Payload, wanted.ContainsKey).Select(one => (one.Series, Run: block.Width == width ? one.Run : SummaryRun.Joined([one.Run], width))).ToArray(),
                (block, runs) =>
                {
                    foreach (var (series, run) in runs)
                        wanted[series].Add((block.End, run));
                });

            bool Takes(DateOnly date, int cluster, long end)
            {
                var day = (date, cluster);
                if (stored == ofWindow)
                    return !open.Contains(end) && !days.Contains(day);
                // A day counts where all of it is asked for and nothing of it waits.
                return end - DaySummaries.Day >= from && !open.Exists(one => one > end - DaySummaries.Day && one <= end) && (days.Add(day) || true);
            }
        }
    }

    // Ends of the windows some batch touches, or some chunk without a summary.
    private static async Task<List<long>> Unfolded(NpgsqlConnection connection, long from, long to, string metric, long width, CancellationToken stop)
    {
        await using var command = new NpgsqlCommand("""
            select distinct (from_ms - 1) / @window, (to_ms - 1) / @window from sample_batch where day between @first and @last and to_ms > @from and from_ms <= @to
            union
            select (to_ms - 1) / @window, (to_ms - 1) / @window from sample_chunk chunk where day between @first and @last and metric = @metric and to_ms > @from and from_ms <= @to and not exists (
                select from sample_summary summary
                where summary.day = chunk.day and summary.metric = chunk.metric and width_ms = @width and summary.to_ms = ((chunk.to_ms - 1) / @window + 1) * @window and summary.cluster_id = chunk.cluster_id)
            """, connection);
        command.Parameters.AddWithValue("metric", metric);
        command.Parameters.AddWithValue("width", (int)DaySummaries.OfWindow(width));
        AddWindow(command, from, to);
        command.Parameters.AddWithValue("window", SampleFolding.Window);
        var ends = new SortedSet<long>();
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            for (var window = reader.GetInt64(0); window <= reader.GetInt64(1); window++)
                if ((window + 1) * SampleFolding.Window is var end && end > from && end <= to)
                    ends.Add(end);
        return [.. ends];
    }

    private static void AddWindow(NpgsqlCommand command, long from, long to)
    {
        command.Parameters.AddWithValue("first", DayPartitions.DayOf(from));
        command.Parameters.AddWithValue("last", DayPartitions.DayOf(to));
        command.Parameters.AddWithValue("from", from);
        command.Parameters.AddWithValue("to", to);
    }
}
