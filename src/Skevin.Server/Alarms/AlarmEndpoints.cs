using System.Security.Claims;
using System.Text.Json;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.ReadyMade;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Server.Access;
using Skevin.Server.Alarms.Drills;
using Skevin.Server.Alarms.Telling;
using Skevin.Server.Ask;
using Skevin.Server.Clusters;
using Skevin.Server.Live;
using Skevin.Server.People;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Alarms;

/// <summary>An alarm that is not quiet.</summary>
public sealed record AlarmView(
    Guid Id, Guid RuleId, string Rule, string Cluster, IReadOnlyDictionary<string, string> Labels, AlarmState State, Severity Severity, DateTimeOffset Since,
    DateTimeOffset? RaisedAt, double? Value, double? Worst, string Unit, string? AcknowledgedBy, DateTimeOffset? AcknowledgedAt, DateTimeOffset? ShelvedUntil, string When, string? Runbook);

/// <summary>A transition.</summary>
public sealed record AlarmEventView(Guid Id, string Rule, IReadOnlyDictionary<string, string> Labels, AlarmTransition Transition, DateTimeOffset At, DateTimeOffset RecordedAt, double? Value, string Unit, Severity Severity);

/// <summary>Alarms and what they did lately.</summary>
/// <param name="Groups">Alarms that are raised or clearing, by what they have in common.</param>
public sealed record AlarmsView(IReadOnlyList<AlarmView> Alarms, IReadOnlyList<AlarmEventView> Events, IReadOnlyList<AlarmGroup> Groups);

/// <summary>A rule.</summary>
public sealed record RuleView(Guid Id, string Cluster, RuleDocument Document, bool InForce, string Owner, DateTimeOffset CreatedAt, DateTimeOffset? JudgedTo, string? Trouble, int Raised, Drills.DrillView? Drill);

/// <summary>Switches a rule.</summary>
public sealed record InForceRequest(bool InForce);

/// <summary>Until when an alarm is shelved; null to take it off the shelf.</summary>
public sealed record ShelveRequest(DateTimeOffset? Until);

/// <summary>A rule to try over history.</summary>
/// <param name="UtcOffsetMinutes">Of the time zone nights are reckoned in.</param>
public sealed record ReplayRequest(RuleDocument Rule, DateTimeOffset From, DateTimeOffset To, string Cluster, int UtcOffsetMinutes = 0);

/// <summary>A stretch in which it would have been raised.</summary>
public sealed record StretchView(IReadOnlyDictionary<string, string> Labels, DateTimeOffset From, DateTimeOffset? To, double? Worst);

/// <summary>What a rule would have done.</summary>
/// <param name="Briefly">How many were cleared within 3 min.</param>
/// <param name="Above">The upper bound in the enquiry's unit.</param>
/// <param name="AtNight">How many were raised between 22:00 and 06:00.</param>
/// <param name="Missed">Titles of incidents written up in this time that it would not have seen.</param>
/// <param name="Incidents">How many were written up.</param>
/// <param name="Variants">What other bounds and hold times would have done.</param>
/// <param name="Suggested">A bound and hold time from this history; null where there is too little of it, or none does.</param>
/// <param name="Usual">Of a rule that follows what is usual: its bounds. Null of others.</param>
/// <param name="Answer">What was judged, with at most 800 slots: of those put together, the value nearest to being raised.</param>
public sealed record ReplayView(
    IReadOnlyList<StretchView> Raised, double MessagesPerWeek, int Briefly, int AtNight, IReadOnlyList<string> Missed, int Incidents, string Unit, double? Above, double? Below,
    IReadOnlyList<VariantView> Variants, SuggestionView? Suggested, AskAnswer Answer, UsualView? Usual);

/// <summary>What is usual, of the first series.</summary>
/// <param name="Hours">Hour by hour.</param>
/// <param name="Known">Of how many series it is known at the end.</param>
public sealed record UsualView(IReadOnlyList<UsualHour> Hours, int Known);

/// <summary>Bounds of an hour; null on a side without one, or where too little is known.</summary>
/// <param name="To">Its end.</param>
public sealed record UsualHour(DateTimeOffset To, double? Below, double? Above);

/// <summary>What a rule with another bound and hold time would have done.</summary>
/// <param name="Bound">As it would stand in the rule.</param>
/// <param name="Hold">As it would stand in the rule.</param>
/// <param name="Present">Whether it is the rule as it is.</param>
public sealed record VariantView(string? Above, string? Below, string Bound, string Hold, bool Present, int Raised, double MessagesPerWeek, int Briefly, int AtNight, IReadOnlyList<string> Missed);

/// <summary>A bound and a hold time, and why these.</summary>
public sealed record SuggestionView(string Bound, string Hold, string Why);

/// <summary>A runbook that ships.</summary>
/// <param name="Text">Markdown.</param>
public sealed record Runbook(string Text);

/// <summary>Station 6.</summary>
public static class AlarmEndpoints
{
    /// <summary>Adds its services.</summary>
    public static void AddAlarms(this IServiceCollection services)
    {
        services.AddSingleton<JudgeRules>();
        services.AddSingleton<TellOfChange>();
        services.AddSingleton<SendMail>();
        services.AddSingleton<DeliverMessages>();
        services.AddSingleton<EscalateAlarms>();
        services.AddSingleton<SaveRule>();
        services.AddSingleton<ReplayRule>();
        services.AddSingleton<IncidentBook>();
        services.AddSingleton<ShowBudget>();
        services.AddHostedService<AlarmWorker>();
        services.AddSingleton<Drills.RunDrills>();
        services.AddHostedService(provider => provider.GetRequiredService<Drills.RunDrills>());
        services.AddHttpClient("messages", client => client.Timeout = TimeSpan.FromSeconds(10))
            .ConfigurePrimaryHttpMessageHandler(() => new SocketsHttpHandler { AllowAutoRedirect = false });
    }

    /// <summary>Maps its endpoints.</summary>
    public static void MapAlarms(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/alarms", List).Needs(Roles.Reader);
        routes.MapPost("/api/alarms/{id:guid}/acknowledge", (Guid id, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, LiveFeed feed, TimeProvider clock, CancellationToken stop) =>
            Change(id, user, contexts, feed, alarm => (alarm.AcknowledgedBy, alarm.AcknowledgedAt) = (user.PersonName(), clock.GetUtcNow()), stop, AlarmNotes.Of(user, clock, "acknowledged it"))).Needs(Roles.Responder).Audits("acknowledged an alarm");
        routes.MapPost("/api/alarms/{id:guid}/shelve", (Guid id, ShelveRequest body, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, LiveFeed feed, TimeProvider clock, CancellationToken stop) =>
            Change(id, user, contexts, feed, alarm => alarm.ShelvedUntil = body.Until?.ToUniversalTime(), stop, AlarmNotes.Of(user, clock, body.Until is { } until ? $"shelved it until {until.UtcDateTime:yyyy-MM-dd HH:mm} UTC" : "took it off the shelf"))).Needs(Roles.Responder).Audits("shelved an alarm");

        routes.MapGet("/api/alert-rules", async (string? cluster, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, CancellationToken stop) =>
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            return await Rules(context, user, cluster, stop);
        }).Needs(Roles.Reader);
        routes.MapPost("/api/alert-rules", async Task<Results<Created<RuleView>, ProblemHttpResult>> (
            RuleDocument body, bool? inForce, ClaimsPrincipal user, SaveRule save, AuditNote note, CancellationToken stop) =>
        {
            (note.About, note.Cluster) = (body.Rule, body.Cluster);
            var outcome = await save.Run(null, body, inForce ?? true, user, stop);
            return outcome.Problem is { } problem ? problem.Http() : TypedResults.Created($"/api/alert-rules/{outcome.Value!.Id}", outcome.Value);
        }).Needs(Roles.Author).Audits("made an alert rule");
        routes.MapPut("/api/alert-rules/{id:guid}", async (Guid id, RuleDocument body, ClaimsPrincipal user, SaveRule save, AuditNote note, CancellationToken stop) =>
        {
            (note.About, note.Cluster) = (body.Rule, body.Cluster);
            return (await save.Run(id, body, null, user, stop)).Http();
        }).Needs(Roles.Author).Audits("changed an alert rule");
        routes.MapPost("/api/alert-rules/{id:guid}/in-force", async (Guid id, InForceRequest body, ClaimsPrincipal user, SaveRule save, AuditNote note, CancellationToken stop) =>
        {
            note.Detail = body.InForce ? "in force" : "not in force";
            return (await save.Switch(id, body.InForce, user, stop)).Http();
        }).Needs(Roles.Author).Audits("switched an alert rule");
        routes.MapDelete("/api/alert-rules/{id:guid}", async (Guid id, ClaimsPrincipal user, SaveRule save, CancellationToken stop) =>
            (await save.Remove(id, user, stop)).NoContentOr()).Needs(Roles.Author).Audits("removed an alert rule");
        routes.MapPost("/api/alert-rules/replay", async Task<Results<Ok<ReplayView>, ProblemHttpResult>> (ReplayRequest body, ClaimsPrincipal user, ClusterWatchers watchers, ReplayRule replay, CancellationToken stop) =>
            watchers.Visible(body.Cluster, user) is null ? ClusterEndpoints.NotThere(body.Cluster).Http() : (await replay.Run(body, user.Scope(), stop)).Http()).Needs(Roles.Reader).OnlyReads();

        routes.MapPost("/api/alert-rules/budget", async Task<Results<Ok<BudgetView>, ProblemHttpResult>> (BudgetRequest body, ClaimsPrincipal user, ClusterWatchers watchers, ShowBudget show, CancellationToken stop) =>
            watchers.Visible(body.Cluster, user) is null ? ClusterEndpoints.NotThere(body.Cluster).Http()
            : body.Objective is null ? new Problem(400, "No objective.", "Send which requests count, which of them are bad, the share that must be good and over how many days.").Http()
            : (await show.Run(body, user.Scope(), stop)).Http()).Needs(Roles.Reader).OnlyReads();

        routes.MapGet("/api/incidents", (string? cluster, DateTimeOffset? from, DateTimeOffset? to, ClaimsPrincipal user, IncidentBook incidents, TimeProvider clock, CancellationToken stop) =>
            incidents.Read(cluster, from ?? clock.GetUtcNow().AddDays(-400), to ?? clock.GetUtcNow(), user.Scope(), stop)).Needs(Roles.Reader);
        routes.MapPost("/api/incidents", async Task<Results<Created<IncidentView>, ProblemHttpResult>> (IncidentRequest body, ClaimsPrincipal user, IncidentBook incidents, TimeProvider clock, AuditNote note, CancellationToken stop) =>
        {
            (note.About, note.Cluster) = (body.Title, body.Cluster);
            if (string.IsNullOrWhiteSpace(body.Title) || body.Title.Length > 200)
                return new Problem(400, "The incident needs a title.", "Up to 200 characters that say what was wrong.").Http();
            if (body.To <= body.From)
                return new Problem(400, "The incident ends before it begins.", "'to' must be later than 'from'.").Http();
            if (body.Cluster is { } cluster && !user.Scope().Sees(cluster))
                return ClusterEndpoints.NotThere(cluster).Http();
            var id = await incidents.Write(body, user.PersonName(), stop);
            return TypedResults.Created($"/api/incidents/{id}", new IncidentView(id, body.Title.Trim(), body.From, body.To, body.Cluster, user.PersonName(), clock.GetUtcNow()));
        }).Needs(Roles.Responder).Audits("wrote up an incident");
        routes.MapDelete("/api/incidents/{id:int}", async Task<Results<NoContent, ProblemHttpResult>> (int id, IncidentBook incidents, AuditNote note, CancellationToken stop) =>
        {
            note.About = await incidents.Remove(id, stop);
            return note.About is null ? new Problem(404, "No such incident.", "It was taken out before.").Http() : TypedResults.NoContent();
        }).Needs(Roles.Responder).Audits("took out an incident");
        routes.MapGet("/api/alert-rules/ready-made", () => ReadyMadeRules.All).Needs(Roles.Reader);
        routes.MapGet("/api/runbooks/{area}/{name}", Results<Ok<Runbook>, ProblemHttpResult> (string area, string name) =>
            ReadyMadeRules.Runbook($"{area}/{name}") is { } text ? TypedResults.Ok(new Runbook(text)) : new Problem(404, "No such runbook.", "It does not ship with this server.").Http()).Needs(Roles.Reader);
        routes.MapTelling();
        routes.MapDrills();
        routes.MapAlarmNotes();
    }

    private static async Task<AlarmsView> List(string? cluster, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, ClusterWatchers watchers, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        // One look for both, or an alarm could stand there whose end is already told below.
        await using var look = await context.Database.BeginTransactionAsync(System.Data.IsolationLevel.RepeatableRead, stop);
        var rows = await context.Alarms.AsNoTracking()
            .Join(context.AlarmRules, alarm => alarm.RuleId, rule => rule.Id, (alarm, rule) => new { alarm, rule })
            .Join(context.Clusters, pair => pair.alarm.ClusterId, row => row.Id, (pair, row) => new { pair.alarm, pair.rule, row.Name })
            .Where(row => (cluster == null || row.Name == cluster) && row.rule.InForce).ToListAsync(stop);
        var events = await context.AlarmEvents.AsNoTracking().Join(context.Clusters, change => change.ClusterId, row => row.Id, (change, row) => new { change, row.Name })
            .Where(row => cluster == null || row.Name == cluster).OrderByDescending(row => row.change.At).Take(100).ToListAsync(stop);
        AlarmView[] alarms =
        [
            .. rows.Where(row => Sees(user, row.Name, row.alarm.Labels)).Select(row =>
            {
                var document = JsonSerializer.Deserialize<RuleDocument>(row.rule.Document, JudgeRules.Json)!;
                return new AlarmView(row.alarm.Id, row.rule.Id, row.rule.Name, row.Name, Map(row.alarm.Labels), row.alarm.State, row.alarm.Severity,
                    DateTimeOffset.FromUnixTimeMilliseconds(row.alarm.Since), row.alarm.RaisedAt == 0 ? null : DateTimeOffset.FromUnixTimeMilliseconds(row.alarm.RaisedAt),
                    row.alarm.Value, row.alarm.Worst, row.alarm.Unit, row.alarm.AcknowledgedBy, row.alarm.AcknowledgedAt, row.alarm.ShelvedUntil, document.When, document.Runbook);
            }).OrderByDescending(alarm => alarm.State is AlarmState.Raised or AlarmState.Clearing).ThenByDescending(alarm => alarm.Severity).ThenBy(alarm => alarm.Since),
        ];
        return new AlarmsView(
            alarms, [.. events.Where(row => Sees(user, row.Name, row.change.Labels)).Select(row => new AlarmEventView(row.change.Id, row.change.RuleName, Map(row.change.Labels), row.change.Transition,
                row.change.At, row.change.RecordedAt, row.change.Value, row.change.Unit, row.change.Severity))],
            // What may be seen of the cluster explains; the rest stands for itself.
            [.. alarms.Where(alarm => alarm.State is AlarmState.Raised or AlarmState.Clearing).GroupBy(alarm => alarm.Cluster).SelectMany(ofCluster => AlarmGrouping.Of(
                [.. ofCluster.Select(alarm => new GroupedAlarm(alarm.Id, alarm.Rule, alarm.Labels, alarm.Severity, alarm.RaisedAt ?? alarm.Since))],
                watchers.Visible(ofCluster.Key, user)?.Watch.Current.Visible(ofCluster.Key, user.Scope()) ?? Core.Clusters.Inventory.Empty))]);
    }

    /// <summary>Rules of clusters this person may see.</summary>
    public static async Task<RuleView[]> Rules(SkevinContext context, ClaimsPrincipal user, string? cluster, CancellationToken stop)
    {
        var rows = await context.AlarmRules.AsNoTracking().Join(context.Clusters, rule => rule.ClusterId, row => row.Id, (rule, row) => new { rule, row.Name })
            .Where(row => cluster == null || row.Name == cluster).OrderBy(row => row.rule.Name).ToListAsync(stop);
        var owners = await context.Users.AsNoTracking().ToDictionaryAsync(person => person.Id, person => person.Name, stop);
        var raised = await context.Alarms.Where(alarm => alarm.State == AlarmState.Raised || alarm.State == AlarmState.Clearing)
            .GroupBy(alarm => alarm.RuleId).Select(group => new { group.Key, Count = group.Count() }).ToDictionaryAsync(group => group.Key, group => group.Count, stop);
        var drills = await Drills.RunDrills.Last(context, stop);
        return [.. rows.Where(row => user.Scope().Sees(row.Name)).Select(row => new RuleView(row.rule.Id, row.Name, JsonSerializer.Deserialize<RuleDocument>(row.rule.Document, JudgeRules.Json)!,
            row.rule.InForce, owners.GetValueOrDefault(row.rule.OwnerId, "gone"), row.rule.CreatedAt, row.rule.JudgedTo == 0 ? null : DateTimeOffset.FromUnixTimeMilliseconds(row.rule.JudgedTo), row.rule.Trouble,
            raised.GetValueOrDefault(row.rule.Id), drills.GetValueOrDefault(row.rule.Id)))];
    }

    internal static async Task<Results<NoContent, ProblemHttpResult>> Change(
        Guid id, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, LiveFeed feed, Action<AlarmRow> change, CancellationToken stop, AlarmNoteRow note)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var found = await context.Alarms.Join(context.Clusters, alarm => alarm.ClusterId, row => row.Id, (alarm, row) => new { alarm, row.Name }).FirstOrDefaultAsync(pair => pair.alarm.Id == id, stop);
        if (found is null || !Sees(user, found.Name, found.alarm.Labels))
            return new Problem(404, "No such alarm.", "It has been cleared since.").Http();
        change(found.alarm);
        note.AlarmId = id;
        context.AlarmNotes.Add(note);
        await context.SaveChangesAsync(stop);
        feed.Tell("alarms", found.Name);
        return TypedResults.NoContent();
    }

    // An alarm belongs to the namespace its labels name; without one it is for readers of the whole cluster.
    internal static bool Sees(ClaimsPrincipal user, string cluster, string labels) => user.Scope().Sees(cluster, NamespaceOf(labels));

    internal static string? NamespaceOf(string labels)
    {
        var map = Map(labels);
        return map.GetValueOrDefault("namespace") ?? map.GetValueOrDefault("k8s.namespace.name");
    }

    internal static Dictionary<string, string> Map(string labels) => JsonSerializer.Deserialize<Dictionary<string, string>>(labels)!;
}
