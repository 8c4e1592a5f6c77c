using System.Collections.Concurrent;
using Npgsql;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Storage.Arrivals;

/// <summary>Which source sent when: minutes with data, what agents say, what was refused.</summary>
public sealed class ArrivalBook(NpgsqlDataSource database, TimeProvider clock)
{
    private const int MinutesKept = 70;
    private static readonly TimeSpan BackFilled = TimeSpan.FromHours(1);

    private sealed class Entry
    {
        public DateTimeOffset LastReceived;
        public DateTimeOffset NewestData;
        public HashSet<long> Minutes { get; } = [];
    }

    private readonly ConcurrentDictionary<(int Cluster, string Signal, string Source), Entry> _entries = new();
    private readonly ConcurrentDictionary<(int Cluster, string Signal, string Source), ConcurrentDictionary<string, SourceReport>> _reports = new();
    private readonly ConcurrentDictionary<int, Refusal> _refusals = new();

    /// <summary>Something arrived or was refused.</summary>
    public event Action<int>? Changed;

    /// <summary>Takes up what is in the database.</summary>
    public async Task Load(CancellationToken stop)
    {
        await using (var command = database.CreateCommand("""
            select cluster_id, signal, source, max(received_at), max(minute), coalesce(array_agg(minute) filter (where minute > @since), '{}')
            from arrival_minute where received_at > @recent group by cluster_id, signal, source
            """))
        {
            command.Parameters.AddWithValue("since", clock.GetUtcNow().ToUnixTimeSeconds() / 60 - MinutesKept);
            command.Parameters.AddWithValue("recent", clock.GetUtcNow().UtcDateTime - TimeSpan.FromDays(2));
            await using var reader = await command.ExecuteReaderAsync(stop);
            while (await reader.ReadAsync(stop))
            {
                var entry = new Entry
                {
                    LastReceived = new DateTimeOffset(reader.GetDateTime(3)),
                    NewestData = DateTimeOffset.FromUnixTimeSeconds(reader.GetInt64(4) * 60),
                };
                entry.Minutes.UnionWith((long[])reader[5]);
                _entries[(reader.GetInt32(0), reader.GetString(1), reader.GetString(2))] = entry;
            }
        }
        await LoadReports(stop);
    }

    /// <summary>Takes up what agents said of their sources, here or to another server.</summary>
    public async Task LoadReports(CancellationToken stop)
    {
        await using var status = database.CreateCommand("select cluster_id, signal, source, agent, at, read, sent, dropped, error from source_status");
        await using var rows = await status.ExecuteReaderAsync(stop);
        while (await rows.ReadAsync(stop))
            Note(rows.GetInt32(0), new SourceReport(rows.GetString(1), rows.GetString(2), rows.GetString(3), new DateTimeOffset(rows.GetDateTime(4)),
                rows.GetInt64(5), rows.GetInt64(6), rows.GetInt64(7), rows.IsDBNull(8) ? null : rows.GetString(8)));
    }

    /// <summary>What the store got of a source, or null.</summary>
    public SourceRecord? Record(int cluster, string signal, string source)
    {
        if (!_entries.TryGetValue((cluster, signal, source), out var entry))
            return null;
        lock (entry)
            return new SourceRecord(entry.LastReceived, entry.NewestData, new HashSet<long>(entry.Minutes));
    }

    /// <summary>What its agents said last, together, or null. A report older than 10 min before the newest is of an agent that has gone.</summary>
    public SourceReport? Report(int cluster, string signal, string source)
    {
        if (!_reports.TryGetValue((cluster, signal, source), out var all) || all.IsEmpty)
            return null;
        var newest = all.Values.MaxBy(report => report.At)!;
        var recent = all.Values.Where(report => newest.At - report.At < TimeSpan.FromMinutes(10)).ToArray();
        return newest with
        {
            Read = recent.Sum(report => report.Read),
            Sent = recent.Sum(report => report.Sent),
            Dropped = recent.Sum(report => report.Dropped),
            Error = recent.Select(report => report.Error).FirstOrDefault(error => error is not null),
        };
    }

    /// <summary>What agents have said of their further destinations since a moment.</summary>
    public IReadOnlyList<SourceReport> Destinations(int cluster, DateTimeOffset since) =>
        [.. _reports.Where(pair => pair.Key.Cluster == cluster && pair.Key.Signal == ExpectedSources.Destinations).SelectMany(pair => pair.Value.Values).Where(report => report.At >= since)];

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
            var entry = _entries.GetOrAdd((cluster, source.Signal, source.Source), _ => new Entry());
            lock (entry)
            {
                var newest = DateTimeOffset.FromUnixTimeMilliseconds(source.Newest);
                // What fills up an older past says nothing about the present.
                if (newest + BackFilled > entry.NewestData)
                    entry.LastReceived = now;
                entry.NewestData = newest > entry.NewestData ? newest : entry.NewestData;
                entry.Minutes.UnionWith(source.Minutes.Keys.Where(minute => minute > oldest));
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
            .SelectMany(item => item.Source.Minutes.Select(minute => (item.Cluster, item.Source.Signal, item.Source.Source, Minute: minute.Key, Samples: minute.Value)))
            .GroupBy(row => (row.Cluster, row.Signal, row.Source, row.Minute))
            .Select(group => (group.Key, Samples: group.Sum(row => row.Samples)))
            .OrderBy(row => row.Key).ToArray();
        if (rows.Length == 0)
            return;
        await using var command = new NpgsqlCommand("""
            insert into arrival_minute (cluster_id, signal, source, minute, samples, received_at)
            select cluster, signal, source, minute, samples, @now from unnest(@cluster, @signal, @source, @minute, @samples) as given (cluster, signal, source, minute, samples)
            on conflict (cluster_id, signal, source, minute) do update set samples = arrival_minute.samples + excluded.samples, received_at = excluded.received_at, server = excluded.server, xact = excluded.xact
            """, connection, transaction);
        command.Parameters.AddWithValue("now", now.UtcDateTime);
        command.Parameters.AddWithValue("cluster", rows.Select(row => row.Key.Cluster).ToArray());
        command.Parameters.AddWithValue("signal", rows.Select(row => row.Key.Signal).ToArray());
        command.Parameters.AddWithValue("source", rows.Select(row => row.Key.Source).ToArray());
        command.Parameters.AddWithValue("minute", rows.Select(row => row.Key.Minute).ToArray());
        command.Parameters.AddWithValue("samples", rows.Select(row => row.Samples).ToArray());
        await command.ExecuteNonQueryAsync(stop);
    }

    /// <summary>Keeps what agents say of their sources. A log, a workload and a node's traffic may be quiet: a report without error counts as having arrived.</summary>
    public async Task Report(int cluster, IReadOnlyCollection<SourceReport> reports, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var latest = reports.GroupBy(item => (item.Signal, item.Source, item.Agent)).Select(group => group.MaxBy(item => item.At)!).ToArray();
        var quiet = reports.Where(report => report.Signal is not ("metrics" or ExpectedSources.Destinations) && report.Error is null)
            .Select(report => (cluster, new SourceArrival(report.Signal, report.Source, new Dictionary<long, int> { [report.At.ToUnixTimeSeconds() / 60] = 0 }, report.At.ToUnixTimeMilliseconds()))).ToArray();
        await using var connection = await database.OpenConnectionAsync(stop);
        await using var transaction = await connection.BeginTransactionAsync(stop);
        await using var command = new NpgsqlCommand("""
            insert into source_status (cluster_id, signal, source, agent, at, read, sent, dropped, error)
            select @cluster, signal, source, agent, at, read, sent, dropped, nullif(error, '')
            from unnest(@signal, @source, @agent, @at, @read, @sent, @dropped, @error) as given (signal, source, agent, at, read, sent, dropped, error)
            order by signal, source, agent
            on conflict (cluster_id, signal, source, agent) do update set at = excluded.at, read = excluded.read, sent = excluded.sent, dropped = excluded.dropped, error = excluded.error
            where source_status.at <= excluded.at
            """, connection, transaction);
        command.Parameters.AddWithValue("cluster", cluster);
        command.Parameters.AddWithValue("signal", latest.Select(item => item.Signal).ToArray());
        command.Parameters.AddWithValue("source", latest.Select(item => item.Source).ToArray());
        command.Parameters.AddWithValue("agent", latest.Select(item => item.Agent).ToArray());
        command.Parameters.AddWithValue("at", latest.Select(item => item.At.UtcDateTime).ToArray());
        command.Parameters.AddWithValue("read", latest.Select(item => item.Read).ToArray());
        command.Parameters.AddWithValue("sent", latest.Select(item => item.Sent).ToArray());
        command.Parameters.AddWithValue("dropped", latest.Select(item => item.Dropped).ToArray());
        command.Parameters.AddWithValue("error", latest.Select(item => item.Error ?? "").ToArray());
        await command.ExecuteNonQueryAsync(stop);
        await Write(connection, transaction, quiet, now, stop);
        await transaction.CommitAsync(stop);
        foreach (var report in latest)
            Note(cluster, report);
        if (quiet.Length > 0)
            Arrived(quiet, now);
        else
            Changed?.Invoke(cluster);
    }

    private void Note(int cluster, SourceReport report) =>
        _reports.GetOrAdd((cluster, report.Signal, report.Source), _ => new()).AddOrUpdate(report.Agent, report, (_, before) => before.At > report.At ? before : report);

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
