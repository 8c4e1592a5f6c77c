using System.Security.Claims;
using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Telling;
using Skevin.Server.Access;
using Skevin.Server.People;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Alarms.Telling;

/// <summary>Somebody to tell.</summary>
/// <param name="Sign">Whether a new secret is made with which messages are signed; left out, it stays as it is.</param>
/// <param name="Template">Form of messages to it; see <see cref="HookTemplate"/>. Empty for Skevin's own; left out, it stays as it is.</param>
public sealed record ContactRequest(string Name, string Url, bool? Sign = null, string? Template = null);

/// <summary>Somebody who can be told.</summary>
/// <param name="Signed">Whether messages are signed.</param>
/// <param name="Waiting">Messages that wait.</param>
/// <param name="FailingSince">Since when nothing is taken; null where messages are.</param>
/// <param name="LastError">Why the last attempt failed.</param>
public sealed record ContactView(int Id, string Name, string Url, bool Signed, int Waiting, DateTimeOffset? FailingSince, string? LastError, string? Template);

/// <summary>A contact that was kept.</summary>
/// <param name="Secret">Its new secret, shown once; null where none was made.</param>
public sealed record KeptContact(int Id, string Name, string? Secret);

/// <summary>A message and what became of it.</summary>
/// <param name="Team">The team through which; null where the rule names the contact.</param>
/// <param name="Step">The team's step, from 0.</param>
/// <param name="Waits">Until when it waits for quiet hours to end, or for the next attempt; null where it is delivered.</param>
public sealed record MessageView(Guid Id, string Contact, string Rule, AlarmTransition Transition, DateTimeOffset CreatedAt, DateTimeOffset? DeliveredAt, int Attempts, string? LastError, string? Team, int Step, DateTimeOffset? Waits);

/// <summary>A team.</summary>
/// <param name="Shifts">Who is on duty in the next five weeks; empty without a rota.</param>
/// <param name="Trouble">Why it tells nobody now, in words; null where it does.</param>
public sealed record TeamView(TeamDocument Document, IReadOnlyList<Shift> Shifts, string? Trouble);

/// <summary>Who is told, and what they were told.</summary>
public static class TellingEndpoints
{
    private static readonly TimeSpan Ahead = TimeSpan.FromDays(35);

    /// <summary>Maps its endpoints.</summary>
    public static void MapTelling(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/contacts", Contacts).Needs(Roles.Reader);
        routes.MapPost("/api/contacts", async Task<Results<Ok<KeptContact>, ProblemHttpResult>> (ContactRequest body, IDbContextFactory<SkevinContext> contexts, DeliverMessages deliver, SendMail mail, AuditNote note, CancellationToken stop) =>
        {
            note.About = body.Name;
            if (string.IsNullOrWhiteSpace(body.Name) || body.Name.Length > 100 || body.Name.Trim() == Team.OnDuty || !Uri.TryCreate(body.Url, UriKind.Absolute, out var url) || url.Scheme is not ("http" or "https" or "mailto"))
                return new Problem(400, "The contact cannot be kept.", "It needs a name and an address that begins with http://, https:// or mailto:.").Http();
            if (url.Scheme == "mailto" && (!mail.Possible || !MimeKit.MailboxAddress.TryParse(body.Url[SendMail.Scheme.Length..], out var box) || box.Domain.Length == 0))
                return new Problem(400, "The contact cannot be kept.", mail.Possible ? $"'{body.Url}' is no address such as mailto:duty@larkfield.example." : "There is no mail server: whoever runs this server sets SKEVIN_SMTP.").Http();
            if (body.Template is { Length: > 0 } template && HookTemplate.Problem(template) is { } wrong)
                return new Problem(400, "The template cannot be used.", wrong, new[] { new RuleMistake("template", wrong) }).Http();
            await using var context = await contexts.CreateDbContextAsync(stop);
            var name = body.Name.Trim();
            if (await context.Teams.AnyAsync(team => team.Name == name, stop))
                return new Problem(409, "The name is taken.", $"A team is called {name}. Give the contact another name.").Http();
            var row = await context.Contacts.FirstOrDefaultAsync(contact => contact.Name == name, stop);
            if (row is null)
                context.Contacts.Add(row = new ContactRow { Name = name, Url = body.Url });
            row.Url = body.Url;
            if (body.Template is { } form)
                row.Template = form.Trim().Length == 0 ? null : form;
            var secret = body.Sign == true ? HookSignature.NewSecret() : null;
            if (body.Sign is { } sign)
                row.ProtectedSecret = sign ? deliver.Protect(secret!) : null;
            await context.SaveChangesAsync(stop);
            return TypedResults.Ok(new KeptContact(row.Id, row.Name, secret));
        }).Needs(Roles.Keeper).Audits("kept a contact");
        routes.MapPost("/api/contacts/{id:int}/test", async Task<Results<Ok<Posted>, ProblemHttpResult>> (int id, IDbContextFactory<SkevinContext> contexts, DeliverMessages deliver, AuditNote note, CancellationToken stop) =>
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            if (await context.Contacts.AsNoTracking().FirstOrDefaultAsync(contact => contact.Id == id, stop) is not { } contact)
                return new Problem(404, "No such contact.", "It was removed before.").Http();
            note.About = contact.Name;
            return TypedResults.Ok(await deliver.Try(contact, stop));
        }).Needs(Roles.Keeper).Audits("sent a test message");
        routes.MapDelete("/api/contacts/{id:int}", async Task<Results<NoContent, ProblemHttpResult>> (int id, IDbContextFactory<SkevinContext> contexts, AuditNote note, CancellationToken stop) =>
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            if (await context.Contacts.FirstOrDefaultAsync(contact => contact.Id == id, stop) is not { } row)
                return new Problem(404, "No such contact.", "It was removed before.").Http();
            note.About = row.Name;
            var names = (await context.Teams.AsNoTracking().ToListAsync(stop)).Select(Directory.Document).Where(team => Named(team).Contains(row.Name)).Select(team => team.Team).ToArray();
            if (names.Length > 0)
                return new Problem(409, "A team needs this contact.", $"{string.Join(", ", names)} would tell nobody. Take {row.Name} out of it first.").Http();
            context.Contacts.Remove(row);
            await context.SaveChangesAsync(stop);
            return TypedResults.NoContent();
        }).Needs(Roles.Keeper).Audits("removed a contact");

        routes.MapGet("/api/teams", async (IDbContextFactory<SkevinContext> contexts, TimeProvider clock, CancellationToken stop) =>
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            var names = (await context.Contacts.Select(contact => contact.Name).ToListAsync(stop)).ToHashSet();
            return (await context.Teams.AsNoTracking().OrderBy(team => team.Name).ToListAsync(stop)).Select(row => View(Directory.Document(row), names, clock.GetUtcNow())).ToArray();
        }).Needs(Roles.Reader);
        routes.MapPut("/api/teams/{name}", async Task<Results<Ok<TeamView>, ProblemHttpResult>> (string name, TeamDocument body, IDbContextFactory<SkevinContext> contexts, TimeProvider clock, AuditNote note, CancellationToken stop) =>
        {
            note.About = name;
            return await Keep(name, body with { Team = (body.Team ?? name).Trim() }, contexts, clock, stop);
        }).Needs(Roles.Keeper).Audits("kept a team");
        routes.MapPost("/api/teams/{name}/instead", async Task<Results<Ok<TeamView>, ProblemHttpResult>> (string name, InsteadDocument body, IDbContextFactory<SkevinContext> contexts, TimeProvider clock, AuditNote note, CancellationToken stop) =>
        {
            (note.About, note.Detail) = (name, body.Person);
            await using var context = await contexts.CreateDbContextAsync(stop);
            if (await context.Teams.AsNoTracking().FirstOrDefaultAsync(team => team.Name == name, stop) is not { } row)
                return new Problem(404, "No such team.", "It was removed before.").Http();
            var document = Directory.Document(row);
            if (document.Rota is not { } rota)
                return new Problem(409, "The team has no rota.", "There is no duty to take over.").Http();
            var now = clock.GetUtcNow();
            return await Keep(name, document with { Rota = rota with { Instead = [.. (rota.Instead ?? []).Where(shift => shift.To > now), body] } }, contexts, clock, stop);
        }).Needs(Roles.Responder).Audits("took over a duty");
        routes.MapDelete("/api/teams/{name}", async Task<Results<NoContent, ProblemHttpResult>> (string name, IDbContextFactory<SkevinContext> contexts, AuditNote note, CancellationToken stop) =>
        {
            note.About = name;
            await using var context = await contexts.CreateDbContextAsync(stop);
            return await context.Teams.Where(team => team.Name == name).ExecuteDeleteAsync(stop) == 0 ? new Problem(404, "No such team.", "It was removed before.").Http() : TypedResults.NoContent();
        }).Needs(Roles.Keeper).Audits("removed a team");

        routes.MapGet("/api/messages", async (string? cluster, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, TimeProvider clock, CancellationToken stop) =>
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            var now = clock.GetUtcNow();
            var rows = await context.Messages.AsNoTracking().Join(context.AlarmEvents, message => message.EventId, change => change.Id, (message, change) => new { message, change })
                .Join(context.Clusters, pair => pair.change.ClusterId, row => row.Id, (pair, row) => new { pair.message, pair.change, row.Name })
                .Where(pair => cluster == null || pair.Name == cluster).OrderByDescending(pair => pair.message.CreatedAt).Take(100).ToListAsync(stop);
            // Those about contacts are of no cluster.
            var own = user.Scope().Namespaces is null ? await context.Messages.AsNoTracking().Where(message => message.EventId == Guid.Empty).OrderByDescending(message => message.CreatedAt).Take(20).ToListAsync(stop) : [];
            return rows.Where(row => AlarmEndpoints.Sees(user, row.Name, row.change.Labels)).Select(row => Of(row.message, row.change.RuleName, row.change.Transition))
                .Concat(own.Select(message => Of(message, (string?)JsonNode.Parse(message.Body)!["rule"] ?? "", AlarmTransition.Raised))).OrderByDescending(message => message.CreatedAt).ToArray();
        }).Needs(Roles.Reader);
    }

    private static MessageView Of(MessageRow message, string rule, AlarmTransition transition) => new(message.Id, message.Contact, rule, transition, message.CreatedAt, message.DeliveredAt, message.Attempts, message.LastError,
        message.EventId == Guid.Empty ? null : message.Team, message.Step, message.DeliveredAt is null ? message.NextTry : null);

    private static async Task<ContactView[]> Contacts(IDbContextFactory<SkevinContext> contexts, ClaimsPrincipal user, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        // An address may hold a secret, so only those who may change it see it.
        var whole = user.Roles().HasFlag(Roles.Keeper);
        var waiting = (await context.Messages.AsNoTracking().Where(message => message.DeliveredAt == null).Select(message => new { message.Contact, message.CreatedAt, message.Attempts, message.LastError }).ToListAsync(stop)).ToLookup(message => message.Contact);
        return
        [
            .. (await context.Contacts.AsNoTracking().OrderBy(contact => contact.Name).ToListAsync(stop)).Select(contact =>
            {
                var failing = waiting[contact.Name].Where(message => message.Attempts >= DeliverMessages.Unreachable).ToArray();
                return new ContactView(contact.Id, contact.Name, whole ? contact.Url : "", contact.ProtectedSecret is not null, waiting[contact.Name].Count(), failing.Length > 0 ? failing.Min(message => message.CreatedAt) : null, failing.FirstOrDefault()?.LastError, contact.Template);
            }),
        ];
    }

    private static async Task<Results<Ok<TeamView>, ProblemHttpResult>> Keep(string name, TeamDocument document, IDbContextFactory<SkevinContext> contexts, TimeProvider clock, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var names = (await context.Contacts.Select(contact => contact.Name).ToListAsync(stop)).ToHashSet();
        if (Team.Read(document, names, out var mistakes) is null)
            return new Problem(400, "The team has mistakes.", string.Join(" ", mistakes.Select(mistake => mistake.Message)), mistakes).Http();
        if (document.Team != name)
            return new Problem(400, "The team has mistakes.", "The name in the document is another than that in the address.").Http();
        if (names.Contains(name))
            return new Problem(409, "The name is taken.", $"A contact is called {name}. Give the team another name.").Http();
        var row = await context.Teams.FirstOrDefaultAsync(team => team.Name == name, stop);
        if (row is null)
            context.Teams.Add(row = new TeamRow { Name = name, Document = "" });
        row.Document = JsonSerializer.Serialize(document, JudgeRules.Json);
        await context.SaveChangesAsync(stop);
        return TypedResults.Ok(View(document, names, clock.GetUtcNow()));
    }

    private static TeamView View(TeamDocument document, HashSet<string> contacts, DateTimeOffset now) => Team.Read(document, contacts, out var mistakes) is { } team
        ? new(document, team.Rota?.Between(now, now + Ahead) ?? [], null)
        : new(document, [], string.Join(" ", mistakes.Select(mistake => mistake.Message)));

    private static IEnumerable<string> Named(TeamDocument team) => team.Steps.Select(step => step.Tell).Concat(team.Rota?.People ?? []).Concat((team.Rota?.Instead ?? []).Select(shift => shift.Person));
}
