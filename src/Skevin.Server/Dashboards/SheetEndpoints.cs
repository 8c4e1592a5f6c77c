using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Skevin.Core.Access;
using Skevin.Core.Dashboards;
using Skevin.Server.Access;
using Skevin.Server.People;
using Skevin.Server.Setup;

namespace Skevin.Server.Dashboards;

/// <summary>A sheet in the list.</summary>
/// <param name="Own">Whether people made it; otherwise it ships.</param>
public sealed record SheetSummary(string Id, string Title, string About, int Strips, bool Own);

/// <summary>A sheet to keep.</summary>
/// <param name="Version">The version it was made from, 0 for a new one.</param>
public sealed record SheetRequest(string Title, string About, IReadOnlyList<Strip> Strips, int Version = 0);

/// <summary>A sheet's file to read.</summary>
public sealed record SheetText(string Text);

/// <summary>Station 5.</summary>
public static class SheetEndpoints
{
    private static readonly Problem NotThere = new(404, "No such sheet.", "Choose one of the list.");

    /// <summary>Adds its services.</summary>
    public static void AddSheets(this IServiceCollection services) => services.AddSingleton<SheetBook>();

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
        routes.MapPost("/api/sheets", async Task<Results<Created<Sheet>, ProblemHttpResult>> (SheetRequest body, ClaimsPrincipal user, SheetBook book, AuditNote note, CancellationToken stop) =>
        {
            note.About = body.Title;
            var kept = await book.Keep(new Sheet("", body.Title ?? "", body.About ?? "", body.Strips ?? []), user.PersonName(), stop);
            return kept.Problem is { } problem ? problem.Http() : TypedResults.Created($"/api/sheets/{kept.Value!.Id}", kept.Value);
        }).Needs(Roles.Author).Audits("made a sheet");
        routes.MapPut("/api/sheets/{id}", async Task<Results<Ok<Sheet>, ProblemHttpResult>> (string id, SheetRequest body, ClaimsPrincipal user, SheetBook book, AuditNote note, CancellationToken stop) =>
        {
            (note.About, note.Detail) = (body.Title, $"version {body.Version + 1}");
            if (await book.Find(id, null, stop) is not { } there)
                return NotThere.Http();
            if (there.Version == 0 || body.Version < 1)
                return new Problem(409, "This sheet ships with Skevin and stays as it is.", "Keep yours as a copy.").Http();
            return (await book.Keep(new Sheet(id, body.Title ?? "", body.About ?? "", body.Strips ?? [], body.Version), user.PersonName(), stop)).Http();
        }).Needs(Roles.Author).Audits("changed a sheet");
        routes.MapDelete("/api/sheets/{id}", async Task<Results<NoContent, ProblemHttpResult>> (string id, ClaimsPrincipal user, SheetBook book, AuditNote note, CancellationToken stop) =>
        {
            note.About = await book.Remove(id, user.PersonName(), stop);
            return note.About is null ? NotThere.Http() : TypedResults.NoContent();
        }).Needs(Roles.Author).Audits("took out a sheet");
    }
}
