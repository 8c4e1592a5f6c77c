using System.Security.Claims;
using System.Text.Json;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Core.Collection;
using Skevin.Server.Access;
using Skevin.Server.Clusters;
using Skevin.Server.Ingest;
using Skevin.Server.People;
using Skevin.Server.Setup;
using Skevin.Storage;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Collection;

/// <summary>A revision of a plan.</summary>
/// <param name="RemovedAt">When its objects were taken out of the cluster; null while they are in it.</param>
public sealed record RevisionView(int Revision, DateTimeOffset CreatedAt, string CreatedBy, DateTimeOffset? AppliedAt, CollectionPlan Plan, DateTimeOffset? RemovedAt);

/// <summary>An ingest token without its text.</summary>
public sealed record TokenView(Guid Id, string Name, string Cluster, bool ForAgents, DateTimeOffset CreatedAt, string CreatedBy, DateTimeOffset? ExpiresAt, DateTimeOffset? RevokedAt, int? ItemsPerSecond);

/// <summary>What is measured of a cluster now.</summary>
/// <param name="Series">Series that had a sample in the last 5 min.</param>
/// <param name="PerSecond">Samples, lines, spans and flow records stored a second, by signal, mean of the last 5 min.</param>
/// <param name="Bytes">Bytes stored in all, by signal, of every cluster.</param>
/// <param name="AgentCores">Processor the agents use, mean of the last 5 min; null where it is not known.</param>
public sealed record MeasuredCollection(int Series, IReadOnlyDictionary<string, double> PerSecond, IReadOnlyDictionary<string, long> Bytes, double? AgentCores);

/// <summary>Collection of one cluster.</summary>
/// <param name="Plan">The plan in force; else the one that was last, or the suggested one.</param>
/// <param name="Revision">The revision in force; 0 where nothing is collected.</param>
/// <param name="Agents">How far each agent of that revision is.</param>
/// <param name="RollOut">All of them together; null where nothing is rolled out, or for readers of a part.</param>
public sealed record CollectionView(
    string Cluster, CollectionPlan Plan, int Revision, string ServerAddress, IReadOnlyList<AgentProgress> Agents, RollOutSummary? RollOut, IReadOnlyList<NeededRight> Rights, IReadOnlyList<NodeAccess> OnNodes,
    IReadOnlyList<RevisionView> Revisions, IReadOnlyList<TokenView> Tokens, MeasuredCollection Measured, PlanSize Size);

/// <summary>A plan to look at or to roll out.</summary>
/// <param name="OneFirst">Whether one node's agent is replaced first, and the others wait.</param>
public sealed record PlanRequest(CollectionPlan Plan, bool? OneFirst = null);

/// <summary>The objects of a plan.</summary>
/// <param name="Difference">What it changes against the plan in force.</param>
/// <param name="Size">What it is expected to bring and to cost.</param>
/// <param name="Preflight">What would hold up its roll-out, and what is in order.</param>
public sealed record ManifestsView(int Revision, string Yaml, IReadOnlyList<NeededRight> Rights, IReadOnlyList<NodeAccess> OnNodes, IReadOnlyList<string> Problems, PlanDifference Difference, PlanSize Size, IReadOnlyList<Core.Clusters.ReadinessItem> Preflight);

/// <summary>A token to make.</summary>
/// <param name="ItemsPerSecond">Samples, lines, spans and flows it may send a second; left out for any number.</param>
public sealed record TokenRequest(string Name, string Cluster, DateTimeOffset? Expires, int? ItemsPerSecond = null);

/// <summary>A token that was made; its text is shown once.</summary>
public sealed record MadeToken(Guid Id, string Token);

/// <summary>Station 2, and ingest tokens.</summary>
public static class CollectionEndpoints
{
    /// <summary>Adds its services.</summary>
    public static void AddCollection(this IServiceCollection services)
    {
        services.AddSingleton<IngestTokens>();
        services.AddSingleton<RollOutPlan>();
        services.AddSingleton<HoldRollOut>();
        services.AddSingleton<RemoveCollection>();
        services.AddSingleton<Machines.KeepMachines>();
        services.AddSingleton<AgentKeys>();
        services.AddSingleton<KeepDestinationHeader>();
        services.AddSingleton<PlansInForce>();
        services.AddSingleton<MeasureCollection>();
        services.AddSingleton<MeasureTrimming>();
        services.AddSingleton<SizePlan>();
        services.AddSingleton<CheckPlan>();
        services.AddSingleton<FindSources>();
        services.AddSingleton<Settings>();
    }

    /// <summary>Maps its endpoints.</summary>
    public static void MapCollection(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/clusters/{name}/collection", View).Needs(Roles.Reader);
        routes.MapPost("/api/clusters/{name}/collection/manifests", async Task<Results<Ok<ManifestsView>, ProblemHttpResult>> (
            string name, PlanRequest body, ClaimsPrincipal user, ClusterWatchers watchers, PlansInForce plans, RollOutPlan rollOut, SizePlan size, CheckPlan check, CancellationToken stop) =>
        {
            if (watchers.Visible(name, user) is not { } cluster)
                return ClusterEndpoints.NotThere(name).Http();
            var revisions = await plans.Revisions(cluster.Id, stop);
            var inForce = revisions.InForce();
            var next = (revisions.FirstOrDefault()?.Revision ?? 0) + 1;
            var plan = body.Plan ?? CollectionPlan.Suggested;
            return TypedResults.Ok(new ManifestsView(next, ManifestYaml.Write(await rollOut.Objects(cluster, next, plan, null, stop)), Permissions.For(plan), Permissions.OnNodes(plan), [.. plan.Problems()], PlanDifference.Between(inForce?.Plan, plan, cluster.Watch.Current), await size.Run(cluster, plan, inForce?.Plan, stop), await check.Run(cluster, plan, stop)));
        }).Needs(Roles.Installer).OnlyReads();
        routes.MapPost("/api/clusters/{name}/collection/roll-out", async Task<Results<Ok<RollOut>, ProblemHttpResult>> (
            string name, PlanRequest body, ClaimsPrincipal user, ClusterWatchers watchers, RollOutPlan rollOut, AuditNote note, CancellationToken stop) =>
        {
            if (watchers.Visible(name, user) is not { } cluster)
                return ClusterEndpoints.NotThere(name).Http();
            if (body.Plan is null)
                return new Problem(400, "No plan.", "Send the plan to roll out.").Http();
            var done = await rollOut.Run(cluster, body.Plan, false, user.PersonName(), stop, body.OneFirst == true);
            (note.Cluster, note.Detail) = (name, $"revision {done.Value?.Revision}{(body.OneFirst == true ? ", one node first" : "")}: {string.Join(", ", body.Plan.Signals)}");
            return done.Http();
        }).Needs(Roles.Installer).Audits("rolled out a collection plan");
        routes.MapPost("/api/clusters/{name}/collection/hold", async Task<Results<Ok<HoldRequest>, ProblemHttpResult>> (
            string name, HoldRequest body, ClaimsPrincipal user, ClusterWatchers watchers, HoldRollOut hold, AuditNote note, CancellationToken stop) =>
        {
            (note.Cluster, note.Detail) = (name, body.Held ? "stopped" : "went on");
            return watchers.Visible(name, user) is { } cluster ? (await hold.Run(cluster, body, stop)).Http() : ClusterEndpoints.NotThere(name).Http();
        }).Needs(Roles.Installer).Audits("held a roll-out or let it go on");
        routes.MapDelete("/api/clusters/{name}/collection", async Task<Results<Ok<Removal>, ProblemHttpResult>> (
            string name, ClaimsPrincipal user, ClusterWatchers watchers, RemoveCollection remove, AuditNote note, CancellationToken stop) =>
        {
            note.Cluster = name;
            var removed = watchers.Visible(name, user) is { } cluster ? await remove.Run(cluster, stop) : ClusterEndpoints.NotThere(name);
            note.Detail = removed.Value is { } done ? string.Join(", ", done.Removed) : null;
            return removed.Http();
        }).Needs(Roles.Installer).Audits("took the agents out of a cluster");
        routes.MapPut("/api/clusters/{name}/collection/destinations/{destination}/header", async Task<Results<NoContent, ProblemHttpResult>> (
            string name, string destination, DestinationHeader body, ClaimsPrincipal user, ClusterWatchers watchers, KeepDestinationHeader keep, AuditNote note, CancellationToken stop) =>
        {
            (note.Cluster, note.About) = (name, destination);
            var problem = watchers.Visible(name, user) is { } cluster ? await keep.Run(cluster, destination, body, stop) : ClusterEndpoints.NotThere(name);
            return problem is null ? TypedResults.NoContent() : problem.Http();
        }).Needs(Roles.Installer).Audits("gave a destination its header");
        routes.MapGet("/api/clusters/{name}/collection/trimming", async Task<Results<Ok<TrimmingView>, ProblemHttpResult>> (
            string name, ClaimsPrincipal user, ClusterWatchers watchers, MeasureTrimming measure, CancellationToken stop) =>
            watchers.Visible(name, user) is { } cluster ? TypedResults.Ok(await measure.Run(cluster.Id, name, user.Scope(), stop)) : ClusterEndpoints.NotThere(name).Http()).Needs(Roles.Reader);

        routes.MapGet("/api/clusters/{name}/collection/catalogue", async Task<Results<Ok<IReadOnlyList<CatalogueEntry>>, ProblemHttpResult>> (
            string name, ClaimsPrincipal user, ClusterWatchers watchers, FindSources find, CancellationToken stop) =>
            watchers.Visible(name, user) is { } cluster ? TypedResults.Ok(await find.Run(cluster, user, stop)) : ClusterEndpoints.NotThere(name).Http()).Needs(Roles.Reader);
        routes.MapGet("/api/retention", (Retentions retentions) => retentions.View).Needs(Roles.Reader);
        routes.MapPut("/api/retention", async Task<Results<Ok<RetentionView>, ProblemHttpResult>> (RetentionSetting body, Retentions retentions, AuditNote note, CancellationToken stop) =>
        {
            note.Detail = $"metrics {body.Metrics} d, logs {body.Logs} d, traces {body.Traces} d, flows {body.Flows} d";
            return (await retentions.Set(body, stop)).Http();
        }).Needs(Roles.Keeper).Audits("set how long data is kept");
        routes.MapGet("/api/prices", async Task<Results<Ok<Prices>, NoContent>> (Settings settings, CancellationToken stop) =>
            await settings.Read<Prices>(SizePlan.PricesSetting, stop) is { } prices ? TypedResults.Ok(prices) : TypedResults.NoContent()).Needs(Roles.Reader);
        routes.MapPut("/api/prices", async Task<Results<NoContent, ProblemHttpResult>> (Prices body, Settings settings, AuditNote note, CancellationToken stop) =>
        {
            if (body.Problem is { } problem)
                return new Problem(400, "The prices cannot be used.", problem).Http();
            note.Detail = body.Currency;
            await settings.Write(SizePlan.PricesSetting, body, stop);
            return TypedResults.NoContent();
        }).Needs(Roles.Keeper).Audits("set the prices");
        routes.MapGet("/api/tokens", async (ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, CancellationToken stop) =>
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            return (await Tokens(context, null, null, stop)).Where(token => user.Scope().Sees(token.Cluster)).ToArray();
        }).Needs(Roles.Keeper);
        routes.MapPost("/api/tokens", async Task<Results<Created<MadeToken>, ProblemHttpResult>> (
            TokenRequest body, ClaimsPrincipal user, ClusterWatchers watchers, IngestTokens tokens, TimeProvider clock, AuditNote note, CancellationToken stop) =>
        {
            (note.About, note.Cluster) = (body.Name, body.Cluster);
            if (watchers.Visible(body.Cluster, user) is not { } cluster)
                return ClusterEndpoints.NotThere(body.Cluster).Http();
            if (string.IsNullOrWhiteSpace(body.Name) || body.Name.Length > 100)
                return new Problem(400, "The token needs a name.", "Up to 100 characters that say who pushes with it.").Http();
            if (body.Expires <= clock.GetUtcNow())
                return new Problem(400, "The token would already have expired.", "Choose a later time, or none.").Http();
            if (body.ItemsPerSecond is < 1)
                return new Problem(400, "The token could send nothing.", "itemsPerSecond is at least 1, or left out for no limit.").Http();
            var (row, token) = await tokens.Make(body.Name.Trim(), cluster.Id, false, body.Expires, user.PersonName(), stop, body.ItemsPerSecond);
            return TypedResults.Created($"/api/tokens/{row.Id}", new MadeToken(row.Id, token));
        }).Needs(Roles.Keeper).Audits("made an ingest token");
        routes.MapDelete("/api/tokens/{id:guid}", async Task<Results<NoContent, ProblemHttpResult>> (
            Guid id, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, IngestTokens tokens, AuditNote note, CancellationToken stop) =>
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            var found = (await Tokens(context, null, id, stop)).FirstOrDefault();
            (note.About, note.Cluster) = (found?.Name, found?.Cluster);
            if (found is null || !user.Scope().Sees(found.Cluster) || !await tokens.Revoke(id, stop))
                return new Problem(404, "No such token.", "It was made on another server, or never.").Http();
            return TypedResults.NoContent();
        }).Needs(Roles.Keeper).Audits("revoked an ingest token");
    }

    private static async Task<Results<Ok<CollectionView>, ProblemHttpResult>> View(
        string name, ClaimsPrincipal user, ClusterWatchers watchers, PlansInForce plans, IDbContextFactory<SkevinContext> contexts, SkevinOptions options,
        MeasureCollection measure, SizePlan size, CancellationToken stop)
    {
        if (watchers.Visible(name, user) is not { } cluster)
            return ClusterEndpoints.NotThere(name).Http();
        var revisions = await plans.Revisions(cluster.Id, stop);
        var current = revisions.InForce();
        var plan = current?.Plan ?? revisions.FirstOrDefault()?.Plan ?? CollectionPlan.Suggested;
        await using var context = await contexts.CreateDbContextAsync(stop);
        var whole = user.Scope().Namespaces is null;
        var agents = current is null || !whole ? [] : RollOutProgress.Of(cluster.Watch.Current, plan, current.Revision);
        return TypedResults.Ok(new CollectionView(
            name, plan, current?.Revision ?? 0, options.Address,
            agents, current is null || !whole ? null : RollOutProgress.Summary(cluster.Watch.Current, agents, current.Revision),
            Permissions.For(plan), Permissions.OnNodes(plan), revisions,
            whole ? await Tokens(context, name, null, stop) : [],
            await measure.Run(cluster.Id, name, stop), await size.Run(cluster, plan, current?.Plan, stop)));
    }

    private static async Task<TokenView[]> Tokens(SkevinContext context, string? cluster, Guid? id, CancellationToken stop) =>
    [
        .. (await context.IngestTokens.AsNoTracking().Join(context.Clusters, token => token.ClusterId, row => row.Id, (token, row) => new { token, row.Name })
            .Where(pair => (cluster == null || pair.Name == cluster) && (id == null || pair.token.Id == id))
            .OrderByDescending(pair => pair.token.CreatedAt).ToListAsync(stop))
            .Select(pair => new TokenView(pair.token.Id, pair.token.Name, pair.Name, pair.token.ForAgents, pair.token.CreatedAt, pair.token.CreatedBy, pair.token.ExpiresAt, pair.token.RevokedAt, pair.token.ItemsPerSecond)),
    ];
}

/// <summary>Plans as stored.</summary>
public sealed class PlansInForce(IDbContextFactory<SkevinContext> contexts)
{
    /// <summary>The revision in force; null where nothing is collected.</summary>
    public async Task<RevisionView?> InForce(int cluster, CancellationToken stop) => (await Revisions(cluster, stop)).InForce();

    /// <summary>Revisions of a cluster's plan, the newest first; the first is in force while it was not taken out.</summary>
    public async Task<IReadOnlyList<RevisionView>> Revisions(int cluster, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var rows = await context.PlanRevisions.AsNoTracking().Where(row => row.ClusterId == cluster).OrderByDescending(row => row.Revision).Take(50).ToListAsync(stop);
        return [.. rows.Select(row => new RevisionView(row.Revision, row.CreatedAt, row.CreatedBy, row.AppliedAt, JsonSerializer.Deserialize<CollectionPlan>(row.Plan, RollOutPlan.Json)!, row.RemovedAt))];
    }
}

/// <summary>Which of a plan's revisions holds.</summary>
public static class RevisionsInForce
{
    /// <summary>The newest, if it was not taken out of the cluster.</summary>
    public static RevisionView? InForce(this IReadOnlyList<RevisionView> revisions) => revisions is [{ RemovedAt: null } newest, ..] ? newest : null;
}
