using Npgsql;
using Skevin.Core.Access;
using Skevin.Core.Alarms;

namespace Skevin.Server.Alarms;

/// <summary>Something to write up.</summary>
/// <param name="Cluster">Where it was; null for everywhere.</param>
public sealed record IncidentRequest(string Title, DateTimeOffset From, DateTimeOffset To, string? Cluster = null);

/// <summary>A written-up incident.</summary>
public sealed record IncidentView(long Id, string Title, DateTimeOffset From, DateTimeOffset To, string? Cluster, string WrittenBy, DateTimeOffset WrittenAt);

/// <summary>Incidents people wrote up: what rules are held against.</summary>
public sealed class IncidentBook(NpgsqlDataSource database, TimeProvider clock)
{
    /// <summary>Writes one up.</summary>
    /// <returns>Its number.</returns>
    public async Task<long> Write(IncidentRequest incident, string by, CancellationToken stop)
    {
        await using var command = database.CreateCommand("insert into incident (title, from_at, to_at, cluster, written_by, written_at) values (@title, @from, @to, @cluster, @by, @now) returning id");
        command.Parameters.AddWithValue("title", incident.Title.Trim());
        command.Parameters.AddWithValue("from", incident.From.UtcDateTime);
        command.Parameters.AddWithValue("to", incident.To.UtcDateTime);
        command.Parameters.Add(new NpgsqlParameter("cluster", NpgsqlTypes.NpgsqlDbType.Text) { Value = (object?)incident.Cluster ?? DBNull.Value });
        command.Parameters.AddWithValue("by", by);
        command.Parameters.AddWithValue("now", clock.GetUtcNow().UtcDateTime);
        return (long)(await command.ExecuteScalarAsync(stop))!;
    }

    /// <summary>Those that touch a stretch of time, the newest first, as far as a reader may see them.</summary>
    public async Task<IReadOnlyList<IncidentView>> Read(string? cluster, DateTimeOffset from, DateTimeOffset to, AccessScope scope, CancellationToken stop)
    {
        await using var command = database.CreateCommand("""
            select id, title, from_at, to_at, cluster, written_by, written_at from incident
            where to_at >= @from and from_at <= @to and (@cluster::text is null or cluster is null or cluster = @cluster) order by from_at desc limit 1000
            """);
        command.Parameters.AddWithValue("from", from.UtcDateTime);
        command.Parameters.AddWithValue("to", to.UtcDateTime);
        command.Parameters.Add(new NpgsqlParameter("cluster", NpgsqlTypes.NpgsqlDbType.Text) { Value = (object?)cluster ?? DBNull.Value });
        var incidents = new List<IncidentView>();
        await using var reader = await command.ExecuteReaderAsync(stop);
        DateTimeOffset Moment(int column) => new(reader.GetDateTime(column));
        while (await reader.ReadAsync(stop))
            incidents.Add(new IncidentView(reader.GetInt64(0), reader.GetString(1), Moment(2), Moment(3), reader.IsDBNull(4) ? null : reader.GetString(4), reader.GetString(5), Moment(6)));
        return [.. incidents.Where(incident => incident.Cluster is null || scope.Sees(incident.Cluster))];
    }

    /// <summary>Takes one out.</summary>
    /// <returns>Its title; null where there is none.</returns>
    public async Task<string?> Remove(long id, CancellationToken stop)
    {
        await using var command = database.CreateCommand("delete from incident where id = @id returning title");
        command.Parameters.AddWithValue("id", id);
        return (string?)await command.ExecuteScalarAsync(stop);
    }
}
