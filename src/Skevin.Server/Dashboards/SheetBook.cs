using Npgsql;
using Skevin.Core.Dashboards;
using Skevin.Server.Ask;
using Skevin.Server.Setup;

namespace Skevin.Server.Dashboards;

/// <summary>A version of a sheet.</summary>
public sealed record SheetVersion(int Version, string ChangedBy, DateTimeOffset ChangedAt, int Strips, string Title);

/// <summary>People's own sheets, with every version of them. Strips made from a kept enquiry have its text as it is now.</summary>
public sealed class SheetBook(NpgsqlDataSource database, TimeProvider clock, EnquiryBook enquiries)
{
    private readonly VersionedDocuments<Document> _documents = new(database, clock, "sheet_version");

    private sealed record Document(string Title, string About, IReadOnlyList<Strip> Strips, IReadOnlyList<SheetChoice>? Choices = null);

    /// <summary>All sheets, those that ship first.</summary>
    public async Task<IReadOnlyList<Sheet>> All(CancellationToken stop) => [.. ReadySheets.All, .. (await _documents.All(false, stop)).Select(Whole)];

    /// <summary>A sheet as it is now, or as it was in a version; null where there is none.</summary>
    public async Task<Sheet?> Find(string id, int? version, CancellationToken stop)
    {
        if (version is null && ReadySheets.All.FirstOrDefault(sheet => sheet.Id == id) is { } ready)
            return ready;
        return await _documents.Find(id, version, stop) is { } found ? await Following(Whole(found), stop) : null;
    }

    /// <summary>Its versions, the newest first.</summary>
    public async Task<IReadOnlyList<SheetVersion>> Versions(string id, CancellationToken stop) =>
        [.. (await _documents.Versions(id, stop)).Select(one => new SheetVersion(one.Version, one.ChangedBy, one.ChangedAt, one.Document.Strips.Count, one.Document.Title))];

    /// <summary>Keeps a sheet: a new one where <see cref="Sheet.Version"/> is 0, else the next version of it.</summary>
    public async Task<Outcome<Sheet>> Keep(Sheet sheet, string by, CancellationToken stop)
    {
        if (sheet.Problems().ToArray() is { Length: > 0 } problems)
            return new Problem(400, "The sheet cannot be kept.", string.Join(" ", problems), problems);
        var followed = await Following(sheet, stop);
        return await _documents.Keep(sheet.Version == 0 ? VersionedDocuments<Document>.NameFor(sheet.Title) : sheet.Id, sheet.Version, new Document(sheet.Title.Trim(), sheet.About ?? "", followed.Strips, sheet.Choices), by, stop) is { } kept ? Whole(kept)
            : new Problem(409, "Somebody changed this sheet meanwhile.", "Your changes are still here. Load the sheet anew in another window, or keep yours as a copy.");
    }

    /// <summary>Takes a sheet out; its versions stay.</summary>
    /// <returns>Its title; null where there is none of one's own.</returns>
    public Task<string?> Remove(string id, string by, CancellationToken stop) => _documents.Remove(id, by, stop);

    private async Task<Sheet> Following(Sheet sheet, CancellationToken stop)
    {
        if (sheet.Strips.All(strip => strip.Kept is null))
            return sheet;
        var texts = await enquiries.Texts(stop);
        return sheet with { Strips = [.. sheet.Strips.Select(strip => strip.Kept is { } kept && texts.TryGetValue(kept, out var text) ? strip with { Text = text } : strip with { Kept = null })] };
    }

    private static Sheet Whole(DocumentVersion<Document> one) => new(one.Id, one.Document.Title, one.Document.About, one.Document.Strips, one.Version, one.ChangedBy, one.ChangedAt, one.Document.Choices);
}
