using System.Collections.Concurrent;
using Npgsql;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Storage.Arrivals;

/// <summary>Which source sent when: minutes with data, what agents say, what was refused.</summary>
public sealed class ArrivalBook(NpgsqlDataSource database, TimeProvider clock)
{
    private const int MinutesKept = 70;

    private sealed class Entry
    {
        public DateTimeOffset LastReceived;
        public DateTimeOffset NewestData;
        public HashSet<long> Minutes { get; } = [];
    }

    private readonly ConcurrentDictionary<(int Cluster, string Source), Entry> _entries = new();
    private readonly ConcurrentDictionary<(int Cluster, string Source), SourceReport> _reports = new();
    private readonly ConcurrentDictionary<int, Refusal> _refusals = new();

    /// <summary>Something arrived or was refused.</summary>
    public event Action<int>? Changed;

    /// <summary>Takes up what is in the database.</summary>
    public async Task Load(CancellationToken stop)
    {
        await using (var command = database.CreateCommand("""
            select cluster_id, source, max(received_at), max(minute), coalesce(array_agg(minute) filter (where minute > @since), '{}')
            from arrival_minute where received_at > @recent group by cluster_id, source
            """))
        {
            command.Parameters.AddWithValue("since", clock.GetUtcNow().ToUnixTimeSeconds() / 60 - MinutesKept);
            command.Parameters.AddWithValue("recent", clock.GetUtcNow().UtcDateTime - TimeSpan.FromDays(2));
            await using var reader = await command.ExecuteReaderAsync(stop);
            while (await reader.ReadAsync(stop))
            {
                var entry = new Entry
                {
                    LastReceived = new DateTimeOffset(reader.GetDateTime(2)),
                    NewestData = DateTimeOffset.FromUnixTimeSeconds(reader.GetInt64(3) * 60),
                };
                entry.Minutes.UnionWith((long[])reader[4]);
                _entries[(reader.GetInt32(0), reader.GetString(1))] = entry;
            }
        }
        await using var status = database.CreateCommand("select cluster_id, source, at, read, sent, dropped, error from source_status");
        await using var rows = await status.ExecuteReaderAsync(stop);
        while (await rows.ReadAsync(stop))
            _reports[(rows.GetInt32(0), rows.GetString(1))] = new SourceReport(
                new DateTimeOffset(rows.GetDateTime(2)), rows.GetInt64(3), rows.GetInt64(4), rows.GetInt64(5), rows.IsDBNull(6) ? null : rows.GetString(6));
    }

    /// <summary>What the store got of a source, or null.</summary>
    public SourceRecord? Record(int cluster, string source)
    {
        if (!_entries.TryGetValue((cluster, source), out var entry))
            return null;
        lock (entry)
            return new SourceRecord(entry.LastReceived, entry.NewestData, new HashSet<long>(entry.Minutes));
    }

    /// <summary>What its agent said last, or null.</summary>
    public SourceReport? Report(int cluster, string source) => _reports.GetValueOrDefault((cluster, source));

    /// <summary>The last refused push of a cluster since one was accepted, or null.</summary>
    public Refusal? Refused(int cluster) => _refusals.GetValueOrDefault(cluster);

    /// <summary>Notes a refused push.</summary>
    public void NoteRefusal(int cluster, DateTimeOffset? tokenReplaced)
    {
        var now = clock.GetUtcNow();
        _refusals.AddOrUpdate(cluster, _ => new Refusal(now, 1, tokenReplaced), (_, before) => new Refusal(now, before.Times + 1, tokenReplaced));
        Changed?.Invoke(cluster);
    }

    /// <summary>Notes what was committed.</summary>
    public void Arrived(IEnumerable<(int Cluster, SourceArrival Source)> arrived, DateTimeOffset now)
    {
        var oldest = now.ToUnixTimeSeconds() / 60 - MinutesKept;
        var clusters = new HashSet<int>();
        foreach (var (cluster, source) in arrived)
        {
            var entry = _entries.GetOrAdd((cluster, source.Source), _ => new Entry());
            lock (entry)
            {
                entry.LastReceived = now;
                foreach (var time in source.Times)
                {
                    var at = DateTimeOffset.FromUnixTimeMilliseconds(time);
                    entry.NewestData = at > entry.NewestData ? at : entry.NewestData;
                    if (time / 60_000 > oldest)
                        entry.Minutes.Add(time / 60_000);
                }
                entry.Minutes.RemoveWhere(minute => minute <= oldest);
            }
            clusters.Add(cluster);
            _refusals.TryRemove(cluster, out _);
        }
        foreach (var cluster in clusters)
            Changed?.Invoke(cluster);
    }

    /// <summary>Writes minutes in the transaction of the samples.</summary>
    public static async Task Write(
        NpgsqlConnection connection, NpgsqlTransaction transaction, IReadOnlyCollection<(int Cluster, SourceArrival Source)> arrived,
        DateTimeOffset now, CancellationToken stop)
    {
        var rows = arrived
            .SelectMany(item => item.Source.Times.Select(time => (item.Cluster, item.Source.Source, Minute: time / 60_000, Samples: item.Source.Samples / Math.Max(1, item.Source.Times.Count))))
            .GroupBy(row => (row.Cluster, row.Source, row.Minute))
            .Select(group => (group.Key, Samples: group.Sum(row => row.Samples)))
            .OrderBy(row => row.Key).ToArray();
        if (rows.Length == 0)
            return;
        await using var command = new NpgsqlCommand("""
            insert into arrival_minute (cluster_id, source, minute, samples, received_at)
            select cluster, source, minute, samples, @now from unnest(@cluster, @source, @minute, @samples) as given (cluster, source, minute, samples)
            on conflict (cluster_id, source, minute) do update set samples = arrival_minute.samples + excluded.samples, received_at = excluded.received_at
            """, connection, transaction);
        command.Parameters.AddWithValue("now", now.UtcDateTime);
        command.Parameters.AddWithValue("cluster", rows.Select(row => row.Key.Cluster).ToArray());
        command.Parameters.AddWithValue("source", rows.Select(row => row.Key.Source).ToArray());
        command.Parameters.AddWithValue("minute", rows.Select(row => row.Key.Minute).ToArray());
        command.Parameters.AddWithValue("samples", rows.Select(row => row.Samples).ToArray());
        await command.ExecuteNonQueryAsync(stop);
    }

    /// <summary>Keeps what agents say of their sources.</summary>
    public async Task Report(int cluster, IReadOnlyCollection<(string Source, SourceReport Report)> reports, CancellationToken stop)
    {
        var latest = reports.GroupBy(item => item.Source).Select(group => group.MaxBy(item => item.Report.At)).ToArray();
        await using var command = database.CreateCommand("""
            insert into source_status (cluster_id, source, at, read, sent, dropped, error)
            select @cluster, source, at, read, sent, dropped, nullif(error, '')
            from unnest(@source, @at, @read, @sent, @dropped, @error) as given (source, at, read, sent, dropped, error)
            on conflict (cluster_id, source) do update set at = excluded.at, read = excluded.read, sent = excluded.sent, dropped = excluded.dropped, error = excluded.error
            where source_status.at <= excluded.at
            """);
        command.Parameters.AddWithValue("cluster", cluster);
        command.Parameters.AddWithValue("source", latest.Select(item => item.Source).ToArray());
        command.Parameters.AddWithValue("at", latest.Select(item => item.Report.At.UtcDateTime).ToArray());
        command.Parameters.AddWithValue("read", latest.Select(item => item.Report.Read).ToArray());
        command.Parameters.AddWithValue("sent", latest.Select(item => item.Report.Sent).ToArray());
        command.Parameters.AddWithValue("dropped", latest.Select(item => item.Report.Dropped).ToArray());
        command.Parameters.AddWithValue("error", latest.Select(item => item.Report.Error ?? "").ToArray());
        await command.ExecuteNonQueryAsync(stop);
        foreach (var (source, report) in latest)
            _reports.AddOrUpdate((cluster, source), report, (_, before) => before.At > report.At ? before : report);
        Changed?.Invoke(cluster);
    }

    /// <summary>Samples stored in each slot of a window, for the time strip, and how many of them came long after their time.</summary>
    public async Task<(long[] Samples, long[] BackFilled)> Profile(int cluster, long fromMinute, int minutesASlot, int slots, CancellationToken stop)
    {
        var (profile, late) = (new long[slots], new long[slots]);
        await using var command = database.CreateCommand("""
            select (minute - @from) / @width, sum(samples), coalesce(sum(samples) filter (where received_at > to_timestamp(minute * 60) + interval '10 minutes'), 0)
            from arrival_minute
            where cluster_id = @cluster and minute >= @from and minute < @from + @width * @slots group by 1
            """);
        command.Parameters.AddWithValue("cluster", cluster);
        command.Parameters.AddWithValue("from", fromMinute);
        command.Parameters.AddWithValue("width", (long)minutesASlot);
        command.Parameters.AddWithValue("slots", (long)slots);
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            (profile[reader.GetInt64(0)], late[reader.GetInt64(0)]) = (reader.GetInt64(1), reader.GetInt64(2));
        return (profile, late);
    }
}
