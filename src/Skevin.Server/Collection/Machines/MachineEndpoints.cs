using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Skevin.Core.Access;
using Skevin.Core.Collection;
using Skevin.Server.Access;
using Skevin.Server.Clusters;
using Skevin.Server.Ingest;
using Skevin.Server.People;
using Skevin.Server.Setup;

namespace Skevin.Server.Collection.Machines;

/// <summary>Machines outside of clusters.</summary>
public static class MachineEndpoints
{
    /// <summary>Maps the endpoints.</summary>
    public static void MapMachines(this IEndpointRouteBuilder routes)
    {
        // Machines belong to no namespace, so whoever sees a part of a cluster sees none.
        routes.MapGet("/api/clusters/{name}/machines", async Task<Results<Ok<IReadOnlyList<MachineView>>, ProblemHttpResult>> (string name, ClaimsPrincipal user, ClusterWatchers watchers, KeepMachines machines, CancellationToken stop) =>
            watchers.Visible(name, user) is not { } cluster ? ClusterEndpoints.NotThere(name).Http() : TypedResults.Ok(user.Scope().Namespaces is null ? await machines.All(cluster.Id, stop) : [])).Needs(Roles.Reader);
        routes.MapPut("/api/clusters/{name}/machines/{machine}", async Task<Results<Ok<KeptMachine>, ProblemHttpResult>> (
            string name, string machine, MachinePlan body, ClaimsPrincipal user, ClusterWatchers watchers, KeepMachines machines, AuditNote note, CancellationToken stop) =>
        {
            (note.Cluster, note.About) = (name, machine);
            return watchers.Visible(name, user) is { } cluster ? (await machines.Keep(cluster, machine, body, false, user.PersonName(), stop)).Http() : ClusterEndpoints.NotThere(name).Http();
        }).Needs(Roles.Installer).Audits("planned a machine's collection");
        routes.MapPost("/api/clusters/{name}/machines/{machine}/token", async Task<Results<Ok<KeptMachine>, ProblemHttpResult>> (
            string name, string machine, ClaimsPrincipal user, ClusterWatchers watchers, KeepMachines machines, AuditNote note, CancellationToken stop) =>
        {
            (note.Cluster, note.About) = (name, machine);
            return watchers.Visible(name, user) is { } cluster ? (await machines.Keep(cluster, machine, null, true, user.PersonName(), stop)).Http() : ClusterEndpoints.NotThere(name).Http();
        }).Needs(Roles.Installer).Audits("made a machine's token anew");
        routes.MapDelete("/api/clusters/{name}/machines/{machine}", async Task<Results<Ok<ForgottenMachine>, ProblemHttpResult>> (
            string name, string machine, ClaimsPrincipal user, ClusterWatchers watchers, KeepMachines machines, AuditNote note, CancellationToken stop) =>
        {
            (note.Cluster, note.About) = (name, machine);
            return watchers.Visible(name, user) is { } cluster ? (await machines.Remove(cluster, machine, stop)).Http() : ClusterEndpoints.NotThere(name).Http();
        }).Needs(Roles.Installer).Audits("forgot a machine");

        routes.MapGet("/" + MachineSetup.ConfigurationPath, async Task<IResult> (HttpContext context, IngestTokens tokens, KeepMachines machines, CancellationToken stop) =>
        {
            var (token, cluster) = await tokens.Find(context.Request.Headers.Authorization, stop);
            if (token is null || !tokens.IsValid(token))
                return Results.Text("The ingest token is missing, unknown or revoked. Make another under Collect, Machines.", statusCode: 401);
            if (await machines.Ask(token.Id, cluster, stop) is not { } configuration)
                return Results.Text("The ingest token is of no machine.", statusCode: 404);
            return context.Request.Headers.IfNoneMatch == $"\"{configuration.Revision}\"" ? Results.StatusCode(304) : Results.Json(configuration, RollOutPlan.Json);
        }).ExcludeFromDescription().Open("Agents of machines show an ingest token in place of a session.");
    }
}
