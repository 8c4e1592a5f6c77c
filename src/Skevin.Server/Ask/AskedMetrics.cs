using System.Collections.Concurrent;
using Npgsql;
using Skevin.Core.Query.Language;

namespace Skevin.Server.Ask;

/// <summary>Remembers which metrics people ask for, so that nobody leaves out what is looked at. Written once an hour a metric at most.</summary>
public sealed class AskedMetrics(NpgsqlDataSource database, TimeProvider clock, ILogger<AskedMetrics> log)
{
    private static readonly TimeSpan Often = TimeSpan.FromHours(1);

    private readonly ConcurrentDictionary<string, DateTimeOffset> _written = new();

    /// <summary>Names of the metrics an enquiry begins with.</summary>
    public static IEnumerable<string> In(Enquiry enquiry) => enquiry.Parts.Select(part => part.Body.Source).OfType<MetricSource>().Select(source => source.Name).Distinct();

    /// <summary>Notes that an enquiry was asked; an answer never waits or fails for it.</summary>
    public void Note(Enquiry enquiry)
    {
        var now = clock.GetUtcNow();
        var fresh = In(enquiry).Where(name => !_written.TryGetValue(name, out var before) || now - before >= Often).ToArray();
        if (fresh.Length == 0)
            return;
        foreach (var name in fresh)
            _written[name] = now;
        _ = Write(fresh, now);
    }

    /// <summary>When each metric was asked for last.</summary>
    public async Task<IReadOnlyDictionary<string, DateTimeOffset>> Read(CancellationToken stop)
    {
        await using var command = database.CreateCommand("select metric, at from asked_metric");
        await using var reader = await command.ExecuteReaderAsync(stop);
        var asked = new Dictionary<string, DateTimeOffset>();
        while (await reader.ReadAsync(stop))
            asked[reader.GetString(0)] = reader.GetFieldValue<DateTimeOffset>(1);
        return asked;
    }

    private async Task Write(string[] names, DateTimeOffset now)
    {
        try
        {
            await using var command = database.CreateCommand("insert into asked_metric (metric, at) select unnest(@names), @at on conflict (metric) do update set at = excluded.at");
            command.Parameters.AddWithValue("names", names.Order(StringComparer.Ordinal).ToArray());
            command.Parameters.AddWithValue("at", now.UtcDateTime);
            await command.ExecuteNonQueryAsync();
        }
        catch (NpgsqlException trouble)
        {
            log.LogWarning(trouble, "Which metrics were asked for could not be noted");
        }
    }
}
