using Npgsql;
using NpgsqlTypes;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Series;
using Skevin.Core.Traces;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Blocks;
using Skevin.Storage.Metrics;
using Skevin.Storage.Traces;

namespace Skevin.Storage.Peers;

/// <summary>
/// Takes over what other servers on the same database have taken in: samples into the heads, spans among those that were stored lately, arrivals into the book.
/// Each look covers every transaction that was not finished at the look before, so nothing is missed; what is seen twice changes nothing.
/// </summary>
public sealed class PeerFeed(NpgsqlDataSource database, SampleStore store, SeriesIndex index, Heads heads, RecentSpans recent, ArrivalBook arrivals, TimeProvider clock)
{
    // Larger blocks are merged ones: their spans came in smaller blocks before.
    private const int MergedSpans = 2048;

    private ulong _since;

    /// <summary>From here on; before the stored data are loaded.</summary>
    public async Task Begin(CancellationToken stop)
    {
        await using var command = database.CreateCommand("select pg_snapshot_xmin(pg_current_snapshot())");
        _since = (ulong)(await command.ExecuteScalarAsync(stop))!;
    }

    /// <summary>Takes over what is new.</summary>
    /// <returns>How many rows of others were read.</returns>
    public async Task<int> Follow(CancellationToken stop)
    {
        await using var connection = await database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(System.Data.IsolationLevel.RepeatableRead, stop);
        await using var horizon = new NpgsqlCommand("select pg_snapshot_xmin(pg_current_snapshot())", connection);
        var next = (ulong)(await horizon.ExecuteScalarAsync(stop))!;

        var samples = await Read(connection, "sample_batch", "payload", reader => SampleBatch.Decode((byte[])reader[0]), stop);
        var histograms = await Read(connection, "histogram_block", "payload", reader => HistogramBlock.Decode((byte[])reader[0]), stop);
        var spans = await Read(connection, "span_block", "cluster_id, payload, spans", reader => (Cluster: reader.GetInt32(0),
            Spans: reader.GetInt32(2) >= MergedSpans ? [] : SpanBlock.Decode((byte[])reader[1])), stop);
        var minutes = await Read(connection, "arrival_minute", "cluster_id, signal, source, minute, samples, received_at", reader => (Received: new DateTimeOffset(reader.GetDateTime(5)), Cluster: reader.GetInt32(0),
            Source: new SourceArrival(reader.GetString(1), reader.GetString(2), new Dictionary<long, int> { [reader.GetInt64(3)] = reader.GetInt32(4) }, (reader.GetInt64(3) + 1) * 60_000 - 1)), stop);
        await transaction.CommitAsync(stop);

        var unknown = samples.SelectMany(batch => batch.Select(one => one.Series)).Concat(histograms.SelectMany(block => block.Select(one => one.Series))).Where(series => index.Of(series) is null).ToHashSet();
        if (unknown.Count > 0)
            await store.LoadSeries(index, unknown, stop);
        foreach (var (series, sample) in samples.SelectMany(batch => batch))
            if (sample.Time >= heads.Start)
                heads.Samples.Add(series, sample);
        foreach (var (series, sample) in histograms.SelectMany(block => block))
            if (sample.Time >= heads.Start)
                heads.Histograms.Add(series, sample);
        foreach (var (cluster, own) in spans)
            recent.Add(own.Select(span => RecentSpans.Fingerprint(cluster, span)), clock.GetUtcNow());
        foreach (var received in minutes.GroupBy(minute => minute.Received).OrderBy(group => group.Key))
            arrivals.Arrived(received.Select(minute => (minute.Cluster, minute.Source)), received.Key);
        _since = next;
        return samples.Count + histograms.Count + spans.Count + minutes.Count;
    }

    private async Task<List<T>> Read<T>(NpgsqlConnection connection, string table, string columns, Func<NpgsqlDataReader, T> row, CancellationToken stop)
    {
        var rows = new List<T>();
        await using var command = new NpgsqlCommand($"select {columns} from {table} where xact >= @since and server <> current_setting('application_name') order by xact", connection);
        command.Parameters.Add(new NpgsqlParameter("since", NpgsqlDbType.Xid8) { Value = _since });
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            rows.Add(row(reader));
        return rows;
    }
}
