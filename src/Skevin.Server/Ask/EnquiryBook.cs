using Npgsql;
using Skevin.Core.Query.Language;
using Skevin.Server.Setup;

namespace Skevin.Server.Ask;

/// <summary>An enquiry that was kept under a name; strips made from it follow its changes.</summary>
/// <param name="Version">Counts its changes; 0 of one that is not kept yet.</param>
public sealed record KeptEnquiry(string Id, string Title, string About, string Text, int Version = 0, string? ChangedBy = null, DateTimeOffset? ChangedAt = null);

/// <summary>Enquiries people kept, with every version of them.</summary>
public sealed class EnquiryBook(NpgsqlDataSource database, TimeProvider clock)
{
    private readonly VersionedDocuments<Document> _documents = new(database, clock, "enquiry_version");

    private sealed record Document(string Title, string About, string Text);

    /// <summary>All, by title.</summary>
    public async Task<IReadOnlyList<KeptEnquiry>> All(CancellationToken stop) => [.. (await _documents.All(false, stop)).Select(Whole)];

    /// <summary>One as it is now; null where there is none.</summary>
    public async Task<KeptEnquiry?> Find(string id, CancellationToken stop) => await _documents.Find(id, null, stop) is { } found ? Whole(found) : null;

    /// <summary>Its versions, the newest first.</summary>
    public async Task<IReadOnlyList<KeptEnquiry>> Versions(string id, CancellationToken stop) => [.. (await _documents.Versions(id, stop)).Select(Whole)];

    /// <summary>Id → text, also of those that were taken out: sheets that use them stay as they are.</summary>
    public async Task<IReadOnlyDictionary<string, string>> Texts(CancellationToken stop) => (await _documents.All(true, stop)).ToDictionary(one => one.Id, one => one.Document.Text);

    /// <summary>Keeps an enquiry: a new one where <see cref="KeptEnquiry.Version"/> is 0, else its next version.</summary>
    public async Task<Outcome<KeptEnquiry>> Keep(KeptEnquiry enquiry, string by, CancellationToken stop)
    {
        if (string.IsNullOrWhiteSpace(enquiry.Title) || enquiry.Title.Length > 120)
            return new Problem(400, "The enquiry cannot be kept.", "It needs a title of up to 120 characters.");
        if (Parser.Mistake(enquiry.Text) is { } mistake)
            return new Problem(400, "The enquiry cannot be kept.", char.ToUpperInvariant(mistake[0]) + mistake[1..]);
        return await _documents.Keep(enquiry.Version == 0 ? VersionedDocuments<Document>.NameFor(enquiry.Title) : enquiry.Id, enquiry.Version, new Document(enquiry.Title.Trim(), enquiry.About ?? "", enquiry.Text.Trim()), by, stop) is { } kept ? Whole(kept)
            : new Problem(409, "Somebody changed this enquiry meanwhile.", "Yours is still here. Open the kept one in another window, or keep yours under another title.");
    }

    /// <summary>Takes one out of the list; strips made from it keep its text.</summary>
    /// <returns>Its title; null where there is none.</returns>
    public Task<string?> Remove(string id, string by, CancellationToken stop) => _documents.Remove(id, by, stop);

    private static KeptEnquiry Whole(DocumentVersion<Document> one) => new(one.Id, one.Document.Title, one.Document.About, one.Document.Text, one.Version, one.ChangedBy, one.ChangedAt);
}
