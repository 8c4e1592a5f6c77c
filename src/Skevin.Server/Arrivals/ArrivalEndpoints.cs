using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Skevin.Core.Access;
using Skevin.Core.Arrivals;
using Skevin.Core.Diagnosis;
using Skevin.Server.Access;
using Skevin.Server.Clusters;
using Skevin.Server.Collection;
using Skevin.Server.Live;
using Skevin.Server.People;
using Skevin.Server.Setup;
using Skevin.Storage.Arrivals;

namespace Skevin.Server.Arrivals;

/// <summary>A source.</summary>
/// <param name="Expected">Minutes of the last hour in which it should have sent.</param>
/// <param name="Received">Minutes of those that have data.</param>
/// <param name="Cause">In a few words, null where nothing is wrong.</param>
/// <param name="Fix">The one thing to do.</param>
/// <param name="Explanation">What happened, in sentences.</param>
/// <param name="Act">What Skevin can do about it.</param>
/// <param name="Proof">The raw evidence.</param>
public sealed record SourceView(
    string Signal, string Source, string? Namespace, string SentBy, ArrivalState State, DateTimeOffset? LastSeen, DateTimeOffset? NewestData, int Expected, int Received,
    int IntervalSeconds, string? Cause, string? Fix, string? Explanation, CureAct Act, IReadOnlyList<string> Proof, SourceReport? Report);

/// <summary>All sources of a cluster.</summary>
/// <param name="Troubles">What is wrong though it arrives; for readers of the whole cluster.</param>
public sealed record ArrivalsView(string Cluster, bool Collected, IReadOnlyList<SourceView> Sources, IReadOnlyList<Trouble> Troubles);

/// <summary>What an endpoint gave when its agent read it last.</summary>
/// <param name="At">Stamp of that pass.</param>
/// <param name="Text">The beginning of the page.</param>
/// <param name="Length">Characters in all.</param>
public sealed record RawPageView(DateTimeOffset At, int Status, string ContentType, string Text, int Length);

/// <summary>An act to cure a cause.</summary>
public sealed record CureRequest(string Cluster, CureAct Act);

/// <summary>Station 3.</summary>
public static class ArrivalEndpoints
{
    /// <summary>Adds its services.</summary>
    public static void AddArrivals(this IServiceCollection services)
    {
        services.AddSingleton<ArrivalBook>();
        services.AddSingleton<AgentStatusProbe>();
        services.AddSingleton<JudgeArrivals>();
        services.AddSingleton<FindTroubles>();
    }

    /// <summary>Maps its endpoints.</summary>
    public static void MapArrivals(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/arrivals", async Task<Results<Ok<ArrivalsView>, ProblemHttpResult>> (
            string? cluster, ClaimsPrincipal user, ClusterWatchers watchers, JudgeArrivals judge, FindTroubles troubles, PlansInForce plans, CancellationToken stop) =>
        {
            if (watchers.Visible(cluster, user) is not { } watched)
                return ClusterEndpoints.NotThere(cluster).Http();
            var sources = await judge.Run(watched, stop);
            return TypedResults.Ok(new ArrivalsView(watched.Name, sources.Count > 0 || await plans.InForce(watched.Id, stop) is not null,
                [.. sources.Where(source => user.Scope().Sees(watched.Name, source.Evidence.Expected.Namespace)).Select(View)],
                user.Scope().Namespaces is null ? await troubles.Run(watched, stop) : []));
        }).Needs(Roles.Reader);
        routes.MapGet("/api/arrivals/page", async Task<Results<Ok<RawPageView>, ProblemHttpResult>> (
            string? cluster, string? source, ClaimsPrincipal user, ClusterWatchers watchers, JudgeArrivals judge, AgentCalls calls, CancellationToken stop) =>
        {
            if (watchers.Visible(cluster, user) is not { } watched)
                return ClusterEndpoints.NotThere(cluster).Http();
            var expected = (await judge.Run(watched, stop)).Select(judged => judged.Evidence.Expected).FirstOrDefault(one => one.Kind is SourceKind.Endpoint or SourceKind.RuntimePage && one.Name == source && user.Scope().Sees(watched.Name, one.Namespace));
            if (expected is null)
                return new Problem(404, "No such endpoint.", "It is not expected now, or not for you. Only application endpoints and runtimes have a page.").Http();
            return expected.Agent is null ? new Problem(409, "There is no agent on its node.", "See the roll-out under Collect.").Http() : (await calls.Get<RawPageView>(watched, expected.Agent, "page/" + expected.Name, stop)).Http();
        }).Needs(Roles.Reader);
        routes.MapPost("/api/arrivals/cure", async Task<Results<Ok<RollOut>, ProblemHttpResult>> (
            CureRequest body, ClaimsPrincipal user, ClusterWatchers watchers, RollOutPlan rollOut, LiveFeed feed, AuditNote note, CancellationToken stop) =>
        {
            (note.About, note.Cluster) = (body.Act switch { CureAct.HandOutToken => "a new token for the agents", CureAct.ApplyAgain => "the plan applied again", _ => null }, body.Cluster);
            if (watchers.Visible(body.Cluster, user) is not { } watched)
                return ClusterEndpoints.NotThere(body.Cluster).Http();
            if (body.Act == CureAct.None)
                return new Problem(400, "Nothing to do.", "Say which act: applyAgain or handOutToken.").Http();
            var done = await rollOut.Run(watched, null, body.Act == CureAct.HandOutToken, user.PersonName(), stop);
            feed.Tell("arrivals", watched.Name);
            return done.Http();
        }).Needs(Roles.Installer).Audits("cured what did not arrive");
    }

    private static SourceView View(JudgedSource source)
    {
        var (expected, record) = (source.Evidence.Expected, source.Evidence.Record);
        var cause = Diagnoses.Of(source);
        return new SourceView(
            expected.Signal, expected.Name, expected.Namespace, expected.SentBy, source.State, record?.LastReceived, record?.NewestData, source.ExpectedMinutes, source.ReceivedMinutes,
            expected.IntervalSeconds, cause?.Short, cause?.Fix, cause?.Text, cause?.Act ?? CureAct.None, cause?.Proof ?? [], source.Evidence.Report);
    }
}
