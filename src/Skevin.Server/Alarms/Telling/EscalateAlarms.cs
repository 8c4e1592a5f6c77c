using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Alarms;
using Skevin.Storage;

namespace Skevin.Server.Alarms.Telling;

/// <summary>Tells the next step of a team where an alarm stays unacknowledged.</summary>
public sealed class EscalateAlarms(IDbContextFactory<SkevinContext> contexts, TimeProvider clock)
{
    /// <summary>Looks through the raised alarms.</summary>
    public async Task Run(CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var now = clock.GetUtcNow();
        if (!await context.Teams.AnyAsync(stop))
            return;
        var open = await context.Alarms.AsNoTracking().Where(alarm => (alarm.State == AlarmState.Raised || alarm.State == AlarmState.Clearing) && alarm.AcknowledgedBy == null && (alarm.ShelvedUntil == null || alarm.ShelvedUntil < now))
            .Join(context.AlarmRules.Where(rule => rule.InForce), alarm => alarm.RuleId, rule => rule.Id, (alarm, rule) => new { alarm, rule.Document }).ToListAsync(stop);
        if (open.Count == 0)
            return;
        var directory = await Directory.Load(context, stop);
        foreach (var one in open)
        {
            var tell = JsonSerializer.Deserialize<RuleDocument>(one.Document, JudgeRules.Json)!.Tell ?? [];
            var raised = DateTimeOffset.FromUnixTimeMilliseconds(one.alarm.RaisedAt);
            var next = directory.Next(tell, one.alarm.Severity, raised, now).ToArray();
            if (next.Length == 0)
                continue;
            var told = await context.Messages.AsNoTracking().Where(message => message.AlarmId == one.alarm.Id).ToListAsync(stop);
            // Only an alarm that was told at all: one that was shelved when it was raised stays silent.
            if (told.MinBy(message => message.CreatedAt) is not { } first)
                continue;
            foreach (var recipient in next.Where(recipient => told.All(message => message.Team != recipient.Team || message.Step != recipient.Step)))
            {
                var body = JsonNode.Parse(first.Body)!.AsObject();
                var id = Guid.CreateVersion7();
                (body["id"], body["team"], body["step"], body["unacknowledgedSeconds"]) = (id.ToString(), recipient.Team, recipient.Step, Math.Round((now - raised).TotalSeconds));
                context.Messages.Add(new MessageRow
                {
                    Id = id, EventId = first.EventId, AlarmId = one.alarm.Id, Contact = recipient.Contact.Name, Url = recipient.Contact.Url, Team = recipient.Team, Step = recipient.Step, CreatedAt = now, NextTry = recipient.At, Body = body.ToJsonString(),
                });
            }
        }
        await context.SaveChangesAsync(stop);
    }
}
