using System.Security.Cryptography;
using System.Text.Json;
using Npgsql;

namespace Skevin.Server.Setup;

/// <summary>A version of a document.</summary>
/// <param name="Id">Its name in addresses.</param>
/// <param name="Version">Counts its changes, from 1.</param>
public sealed record DocumentVersion<T>(string Id, int Version, T Document, string ChangedBy, DateTimeOffset ChangedAt);

/// <summary>Documents of people with every version of them, in a table of (id, version, document, changed_by, changed_at, gone).</summary>
/// <param name="table">The table, a name of our own.</param>
public sealed class VersionedDocuments<T>(NpgsqlDataSource database, TimeProvider clock, string table)
{
    private const int MostVersions = 100;
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    private string Select => $"select id, version, document, changed_by, changed_at from {table} one";

    private string Newest => $"version = (select max(version) from {table} newest where newest.id = one.id)";

    /// <summary>The newest version of each, by title.</summary>
    /// <param name="withGone">Also of those that were taken out.</param>
    /// <param name="stop">Cancels.</param>
    public async Task<List<DocumentVersion<T>>> All(bool withGone, CancellationToken stop)
    {
        await using var command = database.CreateCommand($"{Select} where {Newest} {(withGone ? "" : "and not gone")} order by document ->> 'title', id");
        return await Read(command, stop);
    }

    /// <summary>One as it is now, or as it was in a version; null where there is none.</summary>
    public async Task<DocumentVersion<T>?> Find(string id, int? version, CancellationToken stop)
    {
        await using var command = database.CreateCommand($"{Select} where id = @id and {(version is null ? $"not gone and {Newest}" : "version = @version")}");
        command.Parameters.AddWithValue("id", id);
        command.Parameters.AddWithValue("version", version ?? 0);
        return (await Read(command, stop)).FirstOrDefault();
    }

    /// <summary>Its newest versions, the newest first.</summary>
    public async Task<List<DocumentVersion<T>>> Versions(string id, CancellationToken stop)
    {
        await using var command = database.CreateCommand($"{Select} where id = @id order by version desc limit {MostVersions}");
        command.Parameters.AddWithValue("id", id);
        return await Read(command, stop);
    }

    /// <summary>Writes the version behind one; null where somebody else wrote that already or took the document out.</summary>
    /// <param name="id">Its name; of a new one what <see cref="NameFor"/> gives.</param>
    /// <param name="from">The version it was made from, 0 for a new one.</param>
    /// <param name="document">What it holds; its title in <c>title</c>.</param>
    /// <param name="by">Who.</param>
    /// <param name="stop">Cancels.</param>
    public async Task<DocumentVersion<T>?> Keep(string id, int from, T document, string by, CancellationToken stop)
    {
        var kept = new DocumentVersion<T>(id, from + 1, document, by, clock.GetUtcNow());
        // Two who change a document at once write the same version: the second is refused.
        await using var command = database.CreateCommand($"""
            insert into {table} (id, version, document, changed_by, changed_at, gone)
            select @id, @version, @document::jsonb, @by, @at, false where @version = 1 or exists (select from {table} where id = @id and version = @version - 1 and not gone)
            on conflict do nothing
            """);
        command.Parameters.AddWithValue("id", id);
        command.Parameters.AddWithValue("version", kept.Version);
        command.Parameters.AddWithValue("document", JsonSerializer.Serialize(document, Json));
        command.Parameters.AddWithValue("by", by);
        command.Parameters.AddWithValue("at", kept.ChangedAt.UtcDateTime);
        return await command.ExecuteNonQueryAsync(stop) == 1 ? kept : null;
    }

    /// <summary>Takes one out; its versions stay.</summary>
    /// <returns>Its title; null where there is none.</returns>
    public async Task<string?> Remove(string id, string by, CancellationToken stop)
    {
        await using var command = database.CreateCommand($"""
            insert into {table} (id, version, document, changed_by, changed_at, gone)
            select id, version + 1, document, @by, @at, true from {table} one where id = @id and not gone and {Newest}
            on conflict do nothing returning document ->> 'title'
            """);
        command.Parameters.AddWithValue("id", id);
        command.Parameters.AddWithValue("by", by);
        command.Parameters.AddWithValue("at", clock.GetUtcNow().UtcDateTime);
        return (string?)await command.ExecuteScalarAsync(stop);
    }

    /// <summary>A name that is readable in an address, and nobody else's.</summary>
    public static string NameFor(string title)
    {
        var words = new string([.. title.Trim().ToLowerInvariant().Select(c => char.IsAsciiLetterOrDigit(c) ? c : '-')]);
        while (words.Contains("--", StringComparison.Ordinal))
            words = words.Replace("--", "-", StringComparison.Ordinal);
        return $"{(words.Length > 40 ? words[..40] : words).Trim('-')}-{Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(3))}".TrimStart('-');
    }

    private static async Task<List<DocumentVersion<T>>> Read(NpgsqlCommand command, CancellationToken stop)
    {
        var found = new List<DocumentVersion<T>>();
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            found.Add(new(reader.GetString(0), reader.GetInt32(1), JsonSerializer.Deserialize<T>(reader.GetString(2), Json)!, reader.GetString(3), new DateTimeOffset(reader.GetDateTime(4))));
        return found;
    }
}
