using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Skevin.Core.Access;
using Skevin.Core.Dashboards;
using Skevin.Server.Access;
using Skevin.Server.Ask;
using Skevin.Server.People;
using Skevin.Server.Setup;

namespace Skevin.Server.Dashboards;

/// <summary>A sheet in the list.</summary>
/// <param name="Own">Whether people made it; otherwise it ships.</param>
public sealed record SheetSummary(string Id, string Title, string About, int Strips, bool Own);

/// <summary>A sheet to keep.</summary>
/// <param name="Version">The version it was made from, 0 for a new one.</param>
public sealed record SheetRequest(string Title, string About, IReadOnlyList<Strip> Strips, int Version = 0, IReadOnlyList<SheetChoice>? Choices = null)
{
    /// <summary>The sheet.</summary>
    /// <param name="id">Its name in addresses, empty for a new one.</param>
    public Sheet Sheet(string id = "") => new(id, Title ?? "", About ?? "", Strips ?? [], id.Length == 0 ? 0 : Version, Choices: Choices);
}

/// <summary>A sheet whose names are bound to what is collected.</summary>
/// <param name="Cluster">Where its figures are to come from.</param>
/// <param name="Bindings">Names to replace; none to see which are not known.</param>
public sealed record BindRequest(SheetRequest Sheet, string? Cluster, IReadOnlyList<NameBinding> Bindings);

/// <summary>A sheet with its names replaced, those that are still not known, and what there is instead.</summary>
/// <param name="Known">Source → names known of it; under the empty source the metrics.</param>
public sealed record BoundSheet(Sheet Sheet, IReadOnlyList<ForeignName> Foreign, IReadOnlyDictionary<string, IReadOnlyList<string>> Known);

/// <summary>A sheet's file to read.</summary>
public sealed record SheetText(string Text);

/// <summary>Where a sheet's file stands.</summary>
public sealed record SheetAddress(string Address);

/// <summary>Station 5.</summary>
public static class SheetEndpoints
{
    private static readonly Problem NotThere = new(404, "No such sheet.", "Choose one of the list.");

    /// <summary>Adds its services.</summary>
    public static void AddSheets(this IServiceCollection services, SkevinOptions options)
    {
        services.AddSingleton<SheetBook>().AddSingleton<FetchSheet>();
        services.AddHttpClient(FetchSheet.Client, client => client.Timeout = TimeSpan.FromSeconds(10)).ConfigurePrimaryHttpMessageHandler(() => FetchSheet.Handler(options.Demo));
    }

    /// <summary>Maps its endpoints.</summary>
    public static void MapSheets(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/sheets", async (SheetBook book, CancellationToken stop) =>
            (await book.All(stop)).Select(sheet => new SheetSummary(sheet.Id, sheet.Title, sheet.About, sheet.Strips.Count, sheet.Version > 0)).ToArray()).Needs(Roles.Reader);
        routes.MapGet("/api/sheets/{id}", async Task<Results<Ok<Sheet>, ProblemHttpResult>> (string id, int? version, SheetBook book, CancellationToken stop) =>
            await book.Find(id, version, stop) is { } found ? TypedResults.Ok(found) : NotThere.Http()).Needs(Roles.Reader);
        routes.MapGet("/api/sheets/{id}/versions", (string id, SheetBook book, CancellationToken stop) => book.Versions(id, stop)).Needs(Roles.Reader);
        routes.MapGet("/api/sheets/{id}/file", async Task<Results<ContentHttpResult, ProblemHttpResult>> (string id, SheetBook book, CancellationToken stop) =>
            await book.Find(id, null, stop) is { } found ? TypedResults.Text(SheetFile.Write(found), "application/yaml") : NotThere.Http()).Needs(Roles.Reader);
        routes.MapPost("/api/sheets/read", Results<Ok<Sheet>, ProblemHttpResult> (SheetText body) =>
        {
            try
            {
                var sheet = SheetFile.Read(body.Text ?? "");
                return sheet.Problems().ToArray() is { Length: > 0 } problems ? new Problem(400, "The file is no sheet that could be drawn.", string.Join(" ", problems), problems).Http() : TypedResults.Ok(sheet);
            }
            catch (FormatException wrong)
            {
                return new Problem(400, "The file cannot be read.", wrong.Message).Http();
            }
        }).Needs(Roles.Reader).OnlyReads();
        routes.MapPost("/api/sheets/fetch", async Task<Results<Ok<SheetText>, ProblemHttpResult>> (SheetAddress body, FetchSheet fetch, AuditNote note, CancellationToken stop) =>
        {
            note.About = body.Address;
            var text = await fetch.Run(body.Address ?? "", stop);
            return text.Problem is { } problem ? problem.Http() : TypedResults.Ok(new SheetText(text.Value!));
        }).Needs(Roles.Author).Audits("fetched the file of a sheet");
        routes.MapPost("/api/sheets/bind", async Task<Results<Ok<BoundSheet>, ProblemHttpResult>> (BindRequest body, ClaimsPrincipal user, AskEnquiry ask, TimeProvider clock, CancellationToken stop) =>
        {
            var sheet = (body.Sheet ?? new SheetRequest("", "", [])).Sheet();
            if (sheet.Problems().ToArray() is { Length: > 0 } problems)
                return new Problem(400, "The sheet cannot be bound.", string.Join(" ", problems), problems).Http();
            if ((body.Bindings ?? []).FirstOrDefault(one => string.IsNullOrWhiteSpace(one.To) || string.IsNullOrEmpty(one.Name) || one.Source is null) is { } empty)
                return new Problem(400, "A name is not bound.", $"'{empty.Name}' has no name to be called here.").Http();
            var bound = SheetNames.Bound(sheet, [.. (body.Bindings ?? []).DistinctBy(one => (one.Source, one.Name))]);
            var rows = ask.RowsFor(user.Scope(), body.Cluster);
            var names = new NamesHere(ask.ReaderFor(user.Scope(), body.Cluster), async (kind, from, to, cancel) => [.. (await RowVocabulary.Of(kind, rows, from, to, cancel)).Select(field => field.Name)], clock.GetUtcNow());
            var foreign = await SheetNames.Foreign(bound, names, stop);
            var known = new Dictionary<string, IReadOnlyList<string>>();
            foreach (var source in foreign.Select(one => one.Source).Distinct())
                known[source] = source.Length == 0 ? names.Metrics : await names.Fields(source, stop) ?? [];
            return TypedResults.Ok(new BoundSheet(bound, foreign, known));
        }).Needs(Roles.Reader).OnlyReads();
        routes.MapPost("/api/sheets", async Task<Results<Created<Sheet>, ProblemHttpResult>> (SheetRequest body, ClaimsPrincipal user, SheetBook book, AuditNote note, CancellationToken stop) =>
        {
            note.About = body.Title;
            var kept = await book.Keep(body.Sheet(), user.PersonName(), stop);
            return kept.Problem is { } problem ? problem.Http() : TypedResults.Created($"/api/sheets/{kept.Value!.Id}", kept.Value);
        }).Needs(Roles.Author).Audits("made a sheet");
        routes.MapPut("/api/sheets/{id}", async Task<Results<Ok<Sheet>, ProblemHttpResult>> (string id, SheetRequest body, ClaimsPrincipal user, SheetBook book, AuditNote note, CancellationToken stop) =>
        {
            (note.About, note.Detail) = (body.Title, $"version {body.Version + 1}");
            if (await book.Find(id, null, stop) is not { } there)
                return NotThere.Http();
            if (there.Version == 0 || body.Version < 1)
                return new Problem(409, "This sheet ships with Skevin and stays as it is.", "Keep yours as a copy.").Http();
            return (await book.Keep(body.Sheet(id), user.PersonName(), stop)).Http();
        }).Needs(Roles.Author).Audits("changed a sheet");
        routes.MapDelete("/api/sheets/{id}", async Task<Results<NoContent, ProblemHttpResult>> (string id, ClaimsPrincipal user, SheetBook book, AuditNote note, CancellationToken stop) =>
        {
            note.About = await book.Remove(id, user.PersonName(), stop);
            return note.About is null ? NotThere.Http() : TypedResults.NoContent();
        }).Needs(Roles.Author).Audits("took out a sheet");
    }
}
