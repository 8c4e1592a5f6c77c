using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Telling;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Alarms.Telling;

/// <summary>Records a transition, and makes the messages of it in the same transaction.</summary>
public sealed class TellOfChange(SkevinOptions options, TimeProvider clock)
{
    /// <summary>Does it; whoever calls keeps the changes.</summary>
    /// <param name="context">Receives what is to be kept.</param>
    /// <param name="rule">The rule.</param>
    /// <param name="document">Its document.</param>
    /// <param name="alarm">Of which series.</param>
    /// <param name="cluster">Its cluster.</param>
    /// <param name="transition">What happened.</param>
    /// <param name="slotEnd">End of the slot that decided it.</param>
    /// <param name="value">The value that did.</param>
    /// <param name="before">The alarm before.</param>
    /// <param name="directory">Contacts and teams.</param>
    /// <param name="stop">Cancels.</param>
    public async Task Run(
        SkevinContext context, AlarmRuleRow rule, RuleDocument document, AlarmRow alarm, string cluster, AlarmTransition transition, long slotEnd,
        double value, AlarmStatus before, Directory directory, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var at = DateTimeOffset.FromUnixTimeMilliseconds(slotEnd);
        var change = new AlarmEventRow
        {
            Id = Guid.CreateVersion7(), RuleId = rule.Id, AlarmId = alarm.Id, ClusterId = rule.ClusterId, RuleName = rule.Name, Labels = alarm.Labels,
            Transition = transition, At = at, RecordedAt = now, Value = double.IsFinite(value) ? value : null, Unit = alarm.Unit, Severity = document.Severity,
        };
        context.AlarmEvents.Add(change);
        if (transition == AlarmTransition.Raised)
            context.Marks.Add(new MarkRow { Id = change.Id, ClusterId = rule.ClusterId, At = at, Kind = "alarm", Text = rule.Name });
        // A shelved alarm is recorded, not told.
        if (alarm.ShelvedUntil > now)
            return;
        var lately = await Lately(context, change, stop);
        var verdict = Flapping.Judge(transition, lately.Where(one => one.Transition == AlarmTransition.Raised).Select(one => one.At), at);
        var episode = lately.Select(one => one.AlarmId).Distinct().ToArray();
        if (transition == AlarmTransition.Raised && verdict != FlapVerdict.Tell)
            await TakeBack(context, episode, now, stop);
        if (verdict == FlapVerdict.HoldBack)
            return;
        var recipients = transition == AlarmTransition.Raised ? directory.First(document.Tell ?? [], document.Severity, now).DistinctBy(recipient => (recipient.Contact.Name, recipient.Team)).ToArray()
            : await Told(context, verdict == FlapVerdict.TellWhenCalm ? episode : [alarm.Id], directory, now, stop);
        // Whoever is told has to know that it is practice.
        var drill = recipients.Length > 0 && await context.Drills.AnyAsync(one => one.RuleId == rule.Id && one.EndedAt == null, stop);
        foreach (var recipient in recipients)
        {
            var message = Guid.CreateVersion7();
            context.Messages.Add(new MessageRow
            {
                Id = message, EventId = change.Id, AlarmId = alarm.Id, Contact = recipient.Contact.Name, Url = recipient.Contact.Url, Team = recipient.Team, Step = recipient.Step, CreatedAt = now,
                NextTry = verdict == FlapVerdict.TellWhenCalm && recipient.At < now + Flapping.Calm ? now + Flapping.Calm : recipient.At,
                Body = JsonSerializer.Serialize(new
                {
                    id = message, alarm = alarm.Id, rule = rule.Name, transition, severity = document.Severity, cluster,
                    labels = JsonSerializer.Deserialize<Dictionary<string, string>>(alarm.Labels), at,
                    raisedAt = DateTimeOffset.FromUnixTimeMilliseconds(transition == AlarmTransition.Raised ? slotEnd : before.RaisedAt),
                    value = change.Value, worst = double.IsFinite(before.Worst) ? before.Worst : change.Value, unit = alarm.Unit,
                    // A runbook that ships stands in this server's own page.
                    runbook = document.Runbook?.StartsWith('/') == true ? options.Address + document.Runbook : document.Runbook, drill, flapping = verdict != FlapVerdict.Tell,
                }, JudgeRules.Json),
            });
        }
    }

    // What the same series did in the time flapping is counted over, this transition among it.
    private static async Task<List<AlarmEventRow>> Lately(SkevinContext context, AlarmEventRow change, CancellationToken stop)
    {
        var since = change.At - Flapping.Within - Flapping.Calm;
        var kept = await context.AlarmEvents.AsNoTracking().Where(one => one.RuleId == change.RuleId && one.Labels == change.Labels && one.At > since).ToListAsync(stop);
        return [.. kept, .. context.ChangeTracker.Entries<AlarmEventRow>().Where(entry => entry.State == EntityState.Added && entry.Entity.RuleId == change.RuleId && entry.Entity.Labels == change.Labels).Select(entry => entry.Entity)];
    }

    // It was not calm: those who wait to be told of the end still believe it raised, and it is.
    private static async Task TakeBack(SkevinContext context, Guid[] episode, DateTimeOffset now, CancellationToken stop)
    {
        var waiting = await context.Messages.Where(message => message.DeliveredAt == null && message.Attempts == 0 && message.NextTry > now && message.AlarmId != null && episode.Contains(message.AlarmId.Value)).ToListAsync(stop);
        var ends = await context.AlarmEvents.AsNoTracking().Where(one => one.Transition == AlarmTransition.Cleared && waiting.Select(message => message.EventId).Contains(one.Id)).Select(one => one.Id).ToListAsync(stop);
        context.Messages.RemoveRange(waiting.Where(message => ends.Contains(message.EventId)));
    }

    // The end is told to those who were told of the beginning, not before they are.
    private static async Task<Recipient[]> Told(SkevinContext context, Guid[] alarms, Directory directory, DateTimeOffset now, CancellationToken stop)
    {
        var told = await context.Messages.AsNoTracking().Where(message => message.AlarmId != null && alarms.Contains(message.AlarmId.Value)).ToListAsync(stop);
        told.AddRange(context.ChangeTracker.Entries<MessageRow>().Where(entry => entry.State == EntityState.Added && entry.Entity.AlarmId is { } alarm && alarms.Contains(alarm)).Select(entry => entry.Entity));
        return [.. told.GroupBy(message => message.Contact).Select(group => group.MinBy(message => message.CreatedAt)!)
            .Where(message => directory.Contact(message.Contact) is not null)
            .Select(message => new Recipient(directory.Contact(message.Contact)!, message.Team, message.Step, message.DeliveredAt is null && message.NextTry > now ? message.NextTry : now))];
    }
}
