using System.Security.Claims;
using Npgsql;
using Skevin.Server.Access;
using Skevin.Server.Setup;

namespace Skevin.Server.People;

/// <summary>Marks an endpoint that changes something: who did it is written down.</summary>
/// <param name="Action">What was done, in the past tense, for example "connected a cluster".</param>
public sealed record Audited(string Action);

/// <summary>Marks an endpoint that takes a body but changes nothing.</summary>
public sealed record ReadsOnly;

/// <summary>What a request has to say for the audit log, beside what its address says.</summary>
public sealed class AuditNote
{
    /// <summary>What it was about, for example the name of a rule.</summary>
    public string? About { get; set; }

    /// <summary>What changed, in a few words; never a secret.</summary>
    public string? Detail { get; set; }

    /// <summary>The cluster it was about.</summary>
    public string? Cluster { get; set; }
}

/// <summary>An entry of the audit log.</summary>
/// <param name="Action">What was done.</param>
/// <param name="About">To what.</param>
public sealed record AuditEntry(long Id, DateTimeOffset At, string Person, string Email, string Action, string? About, string? Cluster, string? Detail);

/// <summary>Who changed what: written when it was done, kept 400 days.</summary>
public sealed class AuditLog(NpgsqlDataSource database, TimeProvider clock)
{
    private const int Most = 500;

    /// <summary>Writes an entry.</summary>
    public async Task Write(ClaimsPrincipal person, string action, AuditNote note, CancellationToken stop)
    {
        await using var command = database.CreateCommand("""
            insert into audit_entry (at, person, email, action, about, cluster, detail) values (@at, @person, @email, @action, @about, @cluster, @detail);
            delete from audit_entry where at < @at - interval '400 days';
            """);
        command.Parameters.AddWithValue("at", clock.GetUtcNow().UtcDateTime);
        command.Parameters.AddWithValue("person", person.PersonName());
        command.Parameters.AddWithValue("email", person.FindFirstValue(ClaimTypes.Email) ?? person.Identity?.Name ?? "");
        command.Parameters.AddWithValue("action", action);
        foreach (var (name, value) in new[] { ("about", note.About), ("cluster", note.Cluster), ("detail", note.Detail) })
            command.Parameters.Add(new NpgsqlParameter(name, NpgsqlTypes.NpgsqlDbType.Text) { Value = (object?)value ?? DBNull.Value });
        await command.ExecuteNonQueryAsync(stop);
    }

    /// <summary>Entries, the newest first.</summary>
    /// <param name="before">Only such with a smaller number: the next page.</param>
    /// <param name="text">Only such that have this in person, action, subject or detail; null for all.</param>
    /// <param name="stop">Cancels.</param>
    public async Task<IReadOnlyList<AuditEntry>> Read(long? before, string? text, CancellationToken stop)
    {
        await using var command = database.CreateCommand($"""
            select id, at, person, email, action, about, cluster, detail from audit_entry
            where (@before::bigint is null or id < @before) and (@text::text is null or position(lower(@text) in lower(concat_ws(' ', person, email, action, about, cluster, detail))) > 0)
            order by id desc limit {Most}
            """);
        command.Parameters.Add(new NpgsqlParameter("before", NpgsqlTypes.NpgsqlDbType.Bigint) { Value = (object?)before ?? DBNull.Value });
        command.Parameters.Add(new NpgsqlParameter("text", NpgsqlTypes.NpgsqlDbType.Text) { Value = string.IsNullOrWhiteSpace(text) ? DBNull.Value : text.Trim() });
        await using var reader = await command.ExecuteReaderAsync(stop);
        var entries = new List<AuditEntry>();
        string? Text(int column) => reader.IsDBNull(column) ? null : reader.GetString(column);
        while (await reader.ReadAsync(stop))
            entries.Add(new AuditEntry(reader.GetInt64(0), new DateTimeOffset(reader.GetDateTime(1)), reader.GetString(2), reader.GetString(3), reader.GetString(4), Text(5), Text(6), Text(7)));
        return entries;
    }
}

/// <summary>How endpoints state what they change.</summary>
public static class Auditing
{
    /// <summary>What this endpoint does is written down when it was done. Who looks with another's eyes cannot do it.</summary>
    public static RouteHandlerBuilder Audits(this RouteHandlerBuilder endpoint, string action) => endpoint.WithMetadata(new Audited(action));

    /// <summary>This endpoint takes a body but changes nothing.</summary>
    public static RouteHandlerBuilder OnlyReads(this RouteHandlerBuilder endpoint) => endpoint.WithMetadata(new ReadsOnly());

    /// <summary>Lets through what may be done, and writes it down when it was.</summary>
    public static async Task Keep(HttpContext context, RequestDelegate next)
    {
        if (context.GetEndpoint()?.Metadata.GetMetadata<Audited>() is not { } audited || context.User.Identity?.IsAuthenticated != true)
        {
            await next(context);
            return;
        }
        if (context.User.FindFirstValue(PersonClaims.SeenByClaim) is not null)
        {
            await new Problem(403, "You only look with another's eyes.", "Go back to being yourself before you change anything.").Http().ExecuteAsync(context);
            return;
        }
        await next(context);
        if (context.Response.StatusCode >= 400)
            return;
        var note = context.RequestServices.GetRequiredService<AuditNote>();
        note.About ??= (context.Request.RouteValues.GetValueOrDefault("name") ?? context.Request.RouteValues.GetValueOrDefault("id"))?.ToString();
        // It is done: whether the sender still listens does not matter any more.
        await context.RequestServices.GetRequiredService<AuditLog>().Write(context.User, audited.Action, note, CancellationToken.None);
    }
}
