using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Server.Access;
using Skevin.Server.Live;
using Skevin.Server.People;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Alarms;

/// <summary>A person's words about an alarm.</summary>
public sealed record NoteRequest(string Text);

/// <summary>Hands an alarm over.</summary>
/// <param name="To">Name of the person who takes it.</param>
/// <param name="Text">What they should know.</param>
public sealed record HandOverRequest(string To, string? Text = null);

/// <summary>Something that happened with an alarm.</summary>
/// <param name="Kind">raised, cleared, note or message.</param>
/// <param name="Who">The person or contact; null for the alarm itself.</param>
public sealed record TimelineEntry(DateTimeOffset At, string Kind, string? Who, string Text);

/// <summary>What people do with an alarm, and all that happened with it in order.</summary>
public static class AlarmNotes
{
    private const int Longest = 2000;

    /// <summary>A note in a person's name.</summary>
    public static AlarmNoteRow Of(ClaimsPrincipal user, TimeProvider clock, string text) => new() { Id = Guid.CreateVersion7(), At = clock.GetUtcNow(), By = user.PersonName(), Text = text };

    /// <summary>Maps its endpoints.</summary>
    public static void MapAlarmNotes(this IEndpointRouteBuilder routes)
    {
        routes.MapPost("/api/alarms/{id:guid}/note", async Task<Results<NoContent, ProblemHttpResult>> (Guid id, NoteRequest body, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, LiveFeed feed, TimeProvider clock, CancellationToken stop) =>
            string.IsNullOrWhiteSpace(body.Text) || body.Text.Length > Longest ? new Problem(400, "The note cannot be kept.", $"It has some words, up to {Longest} characters.").Http()
                : await AlarmEndpoints.Change(id, user, contexts, feed, _ => { }, stop, Of(user, clock, body.Text.Trim()))).Needs(Roles.Responder).Audits("wrote a note on an alarm");
        routes.MapPost("/api/alarms/{id:guid}/hand-over", async Task<Results<NoContent, ProblemHttpResult>> (Guid id, HandOverRequest body, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, LiveFeed feed, TimeProvider clock, AuditNote note, CancellationToken stop) =>
        {
            note.Detail = body.To;
            await using var context = await contexts.CreateDbContextAsync(stop);
            // Only somebody who may answer for it.
            var taker = await context.Users.AsNoTracking().FirstOrDefaultAsync(person => person.Name == body.To, stop);
            if (taker is null || !taker.Roles.HasFlag(Roles.Responder))
                return new Problem(400, "Nobody of that name can take it.", $"There is no responder called '{body.To}'.").Http();
            if (await context.Alarms.AsNoTracking().Join(context.Clusters, alarm => alarm.ClusterId, row => row.Id, (alarm, row) => new { alarm.Id, alarm.Labels, row.Name }).FirstOrDefaultAsync(one => one.Id == id, stop) is { } handed
                && !PersonClaims.ScopeOf(taker).Sees(handed.Name, AlarmEndpoints.NamespaceOf(handed.Labels)))
                return new Problem(400, "Nobody of that name can take it.", $"{taker.Name} may not see where it is raised.").Http();
            if (body.Text?.Length > Longest)
                return new Problem(400, "The note cannot be kept.", $"It has up to {Longest} characters.").Http();
            return await AlarmEndpoints.Change(id, user, contexts, feed, alarm => (alarm.AcknowledgedBy, alarm.AcknowledgedAt) = (taker.Name, clock.GetUtcNow()), stop,
                Of(user, clock, $"handed it over to {taker.Name}{(string.IsNullOrWhiteSpace(body.Text) ? "" : ": " + body.Text.Trim())}"));
        }).Needs(Roles.Responder).Audits("handed an alarm over");
        routes.MapGet("/api/alarms/{id:guid}/timeline", Timeline).Needs(Roles.Reader);
        routes.MapGet("/api/responders", async (IDbContextFactory<SkevinContext> contexts, CancellationToken stop) =>
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            return (await context.Users.AsNoTracking().OrderBy(person => person.Name).ToListAsync(stop)).Where(person => person.Roles.HasFlag(Roles.Responder)).Select(person => person.Name).ToArray();
        }).Needs(Roles.Responder);
    }

    private static async Task<Results<Ok<TimelineEntry[]>, ProblemHttpResult>> Timeline(Guid id, ClaimsPrincipal user, IDbContextFactory<SkevinContext> contexts, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var events = await context.AlarmEvents.AsNoTracking().Where(change => change.AlarmId == id).Join(context.Clusters, change => change.ClusterId, row => row.Id, (change, row) => new { change, row.Name }).ToListAsync(stop);
        if (!events.Any(one => AlarmEndpoints.Sees(user, one.Name, one.change.Labels)))
            return new Problem(404, "No such alarm.", "It was never raised, or is not for you.").Http();
        var notes = await context.AlarmNotes.AsNoTracking().Where(note => note.AlarmId == id).ToListAsync(stop);
        var messages = await context.Messages.AsNoTracking().Where(message => message.AlarmId == id).ToListAsync(stop);
        return TypedResults.Ok<TimelineEntry[]>(
        [
            .. events.Select(one => new TimelineEntry(one.change.At, one.change.Transition == AlarmTransition.Raised ? "raised" : "cleared", null, one.change.Value is { } value ? $"{one.change.RuleName} at {value:0.###} {one.change.Unit}" : one.change.RuleName))
                .Concat(notes.Select(note => new TimelineEntry(note.At, "note", note.By, note.Text)))
                .Concat(messages.Select(message => new TimelineEntry(message.DeliveredAt ?? message.CreatedAt, "message", message.Contact,
                    $"{(message.DeliveredAt is not null ? "was told" : message.Attempts > 0 ? $"could not be told yet: {message.LastError}" : $"will be told at {message.NextTry.UtcDateTime:HH:mm} UTC")}{(message.Step > 0 ? $", since nobody had acknowledged ({message.Team}, step {message.Step + 1})" : message.Team is not null ? $" for {message.Team}" : "")}")))
                .OrderBy(entry => entry.At),
        ]);
    }
}
