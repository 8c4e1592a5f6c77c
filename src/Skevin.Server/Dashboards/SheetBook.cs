using System.Text.Json;
using Npgsql;
using NpgsqlTypes;
using Skevin.Core.Dashboards;
using Skevin.Server.Setup;

namespace Skevin.Server.Dashboards;

/// <summary>A version of a sheet.</summary>
public sealed record SheetVersion(int Version, string ChangedBy, DateTimeOffset ChangedAt, int Strips, string Title);

/// <summary>People's own sheets, with every version of them.</summary>
public sealed class SheetBook(NpgsqlDataSource database, TimeProvider clock)
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    private sealed record Document(string Title, string About, IReadOnlyList<Strip> Strips);

    /// <summary>All sheets, those that ship first.</summary>
    public async Task<IReadOnlyList<Sheet>> All(CancellationToken stop)
    {
        await using var command = database.CreateCommand($"{Select} where version = (select max(version) from sheet_version newest where newest.id = sheet_version.id) and not gone order by document ->> 'title', id");
        return [.. ReadySheets.All, .. await Read(command, stop)];
    }

    /// <summary>A sheet as it is now, or as it was in a version; null where there is none.</summary>
    public async Task<Sheet?> Find(string id, int? version, CancellationToken stop)
    {
        if (version is null && ReadySheets.All.FirstOrDefault(sheet => sheet.Id == id) is { } ready)
            return ready;
        await using var command = database.CreateCommand($"{Select} where id = @id and (@version::int is null and not gone and version = (select max(version) from sheet_version newest where newest.id = @id) or version = @version)");
        command.Parameters.AddWithValue("id", id);
        command.Parameters.Add(new NpgsqlParameter("version", NpgsqlDbType.Integer) { Value = (object?)version ?? DBNull.Value });
        return (await Read(command, stop)).FirstOrDefault();
    }

    /// <summary>Its versions, the newest first.</summary>
    public async Task<IReadOnlyList<SheetVersion>> Versions(string id, CancellationToken stop)
    {
        await using var command = database.CreateCommand($"{Select} where id = @id order by version desc limit 100");
        command.Parameters.AddWithValue("id", id);
        return [.. (await Read(command, stop)).Select(sheet => new SheetVersion(sheet.Version, sheet.ChangedBy!, sheet.ChangedAt!.Value, sheet.Strips.Count, sheet.Title))];
    }

    /// <summary>Keeps a sheet: a new one where <see cref="Sheet.Version"/> is 0, else the next version of it.</summary>
    public async Task<Outcome<Sheet>> Keep(Sheet sheet, string by, CancellationToken stop)
    {
        if (sheet.Problems().ToArray() is { Length: > 0 } problems)
            return new Problem(400, "The sheet cannot be kept.", string.Join(" ", problems), problems);
        var kept = sheet with { Id = sheet.Version == 0 ? Name(sheet.Title) : sheet.Id, Version = sheet.Version + 1, ChangedBy = by, ChangedAt = clock.GetUtcNow() };
        // Two who change a sheet at once write the same version: the second is refused.
        await using var command = database.CreateCommand("""
            insert into sheet_version (id, version, document, changed_by, changed_at, gone)
            select @id, @version, @document::jsonb, @by, @at, false where @version = 1 or exists (select from sheet_version where id = @id and version = @version - 1 and not gone)
            on conflict do nothing
            """);
        command.Parameters.AddWithValue("id", kept.Id);
        command.Parameters.AddWithValue("version", kept.Version);
        command.Parameters.AddWithValue("document", JsonSerializer.Serialize(new Document(kept.Title.Trim(), kept.About ?? "", kept.Strips), Json));
        command.Parameters.AddWithValue("by", by);
        command.Parameters.AddWithValue("at", kept.ChangedAt!.Value.UtcDateTime);
        return await command.ExecuteNonQueryAsync(stop) == 1 ? kept
            : new Problem(409, "Somebody changed this sheet meanwhile.", "Your changes are still here. Load the sheet anew in another window, or keep yours as a copy.");
    }

    /// <summary>Takes a sheet out; its versions stay.</summary>
    /// <returns>Its title; null where there is none of one's own.</returns>
    public async Task<string?> Remove(string id, string by, CancellationToken stop)
    {
        await using var command = database.CreateCommand("""
            insert into sheet_version (id, version, document, changed_by, changed_at, gone)
            select id, version + 1, document, @by, @at, true from sheet_version where id = @id and not gone and version = (select max(version) from sheet_version newest where newest.id = @id)
            on conflict do nothing returning document ->> 'title'
            """);
        command.Parameters.AddWithValue("id", id);
        command.Parameters.AddWithValue("by", by);
        command.Parameters.AddWithValue("at", clock.GetUtcNow().UtcDateTime);
        return (string?)await command.ExecuteScalarAsync(stop);
    }

    private const string Select = "select id, version, document, changed_by, changed_at from sheet_version";

    private static async Task<List<Sheet>> Read(NpgsqlCommand command, CancellationToken stop)
    {
        var sheets = new List<Sheet>();
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
        {
            var document = JsonSerializer.Deserialize<Document>(reader.GetString(2), Json)!;
            sheets.Add(new Sheet(reader.GetString(0), document.Title, document.About, document.Strips, reader.GetInt32(1), reader.GetString(3), new DateTimeOffset(reader.GetDateTime(4))));
        }
        return sheets;
    }

    // Readable in an address, and nobody else's.
    private static string Name(string title)
    {
        var words = new string([.. title.Trim().ToLowerInvariant().Select(c => char.IsAsciiLetterOrDigit(c) ? c : '-')]);
        while (words.Contains("--", StringComparison.Ordinal))
            words = words.Replace("--", "-", StringComparison.Ordinal);
        return $"{(words.Length > 40 ? words[..40] : words).Trim('-')}-{Convert.ToHexStringLower(System.Security.Cryptography.RandomNumberGenerator.GetBytes(3))}".TrimStart('-');
    }
}
