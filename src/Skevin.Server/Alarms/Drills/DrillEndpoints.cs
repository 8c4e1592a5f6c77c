using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Server.Access;
using Skevin.Server.People;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Alarms.Drills;

/// <summary>Drills of alert rules.</summary>
public static class DrillEndpoints
{
    /// <summary>Maps the endpoints; a drill needs the practice cluster.</summary>
    public static void MapDrills(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/alert-rules/{id:guid}/drill", async Task<Results<Ok<DrillView>, NoContent, ProblemHttpResult>> (Guid id, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, CancellationToken stop) =>
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            if (await SaveRule.Find(context, id, user, stop) is null)
                return new Problem(404, "No such rule.", "It was removed before.").Http();
            return (await RunDrills.Last(context, stop)).TryGetValue(id, out var last) ? TypedResults.Ok(last) : TypedResults.NoContent();
        }).Needs(Roles.Reader);
        routes.MapPost("/api/alert-rules/{id:guid}/drill", async (Guid id, DrillRequest body, ClaimsPrincipal user, RunDrills drills, AuditNote note, CancellationToken stop) =>
        {
            note.Detail = body.Fault;
            return (await drills.Begin(id, body.Fault, user, stop)).Http();
        }).Needs(Roles.Installer).Audits("drilled an alert rule");
        routes.MapDelete("/api/alert-rules/{id:guid}/drill", async (Guid id, ClaimsPrincipal user, RunDrills drills, CancellationToken stop) =>
            (await drills.BreakOff(id, user, stop)).NoContentOr()).Needs(Roles.Installer).Audits("broke a drill off");
    }
}
