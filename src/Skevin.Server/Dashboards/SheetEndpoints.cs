using Microsoft.AspNetCore.Http.HttpResults;
using Skevin.Core.Access;
using Skevin.Server.Access;
using Skevin.Server.Setup;

namespace Skevin.Server.Dashboards;

/// <summary>A sheet in the list.</summary>
public sealed record SheetSummary(string Id, string Title, string About, int Strips);

/// <summary>Station 5.</summary>
public static class SheetEndpoints
{
    /// <summary>Maps its endpoints.</summary>
    public static void MapSheets(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/sheets", () => ReadySheets.All.Select(sheet => new SheetSummary(sheet.Id, sheet.Title, sheet.About, sheet.Strips.Count)).ToArray()).Needs(Roles.Reader);
        routes.MapGet("/api/sheets/{id}", Results<Ok<Sheet>, ProblemHttpResult> (string id) =>
            ReadySheets.All.FirstOrDefault(sheet => sheet.Id == id) is { } found
                ? TypedResults.Ok(found)
                : new Problem(404, "No such sheet.", "Choose one of the list.").Http()).Needs(Roles.Reader);
    }
}
