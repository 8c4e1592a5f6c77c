using System.Security.Claims;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Alarms;
using Skevin.Server.Access;
using Skevin.Server.Clusters;
using Skevin.Server.Live;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Alarms;

/// <summary>Keeps, changes, switches and removes alert rules.</summary>
public sealed class SaveRule(IDbContextFactory<SkevinContext> contexts, ClusterWatchers watchers, LiveFeed feed, TimeProvider clock)
{
    /// <summary>Keeps a new rule, or a changed one. A rule runs in the scope of whoever saved it last.</summary>
    public async Task<Outcome<RuleView>> Run(Guid? id, RuleDocument document, bool? inForce, ClaimsPrincipal user, CancellationToken stop)
    {
        if (AlarmRule.Read(document, out var mistakes) is null)
            return new Problem(400, "The rule has mistakes.", string.Join(" ", mistakes.Select(mistake => mistake.Message)), mistakes);
        var visible = watchers.All.Where(cluster => user.Scope().Sees(cluster.Name)).ToArray();
        var cluster = document.Cluster is null && visible.Length == 1 ? visible[0] : watchers.Visible(document.Cluster, user);
        if (cluster is null)
            return document.Cluster is null
                ? new Problem(400, "The rule names no cluster.", "Say which: cluster: larkfield-north.", new[] { new RuleMistake("cluster", "There are several clusters; name one.") })
                : ClusterEndpoints.NotThere(document.Cluster);
        await using var context = await contexts.CreateDbContextAsync(stop);
        var name = document.Rule.Trim();
        if (await context.AlarmRules.AnyAsync(row => row.ClusterId == cluster.Id && row.Name == name && row.Id != id, stop))
            return new Problem(409, "The name is taken.", $"Another rule of {cluster.Name} is called {name}. Give this one another name.", new[] { new RuleMistake("rule", "Another rule has this name.") });
        var unknown = (document.Tell ?? []).Except(await context.Contacts.Select(contact => contact.Name).Concat(context.Teams.Select(team => team.Name)).ToListAsync(stop)).ToArray();
        if (unknown.Length > 0)
            return new Problem(400, "Nobody of that name can be told.", $"There is no contact and no team {string.Join(", ", unknown)}. Make it first.", new[] { new RuleMistake("tell", $"No contact and no team is called {unknown[0]}.") });
        var row = id is null ? new AlarmRuleRow { Id = Guid.CreateVersion7(), Name = name, Document = "", OwnerId = "", CreatedAt = clock.GetUtcNow(), ClusterId = cluster.Id }
            : await context.AlarmRules.FirstOrDefaultAsync(other => other.Id == id && other.ClusterId == cluster.Id, stop);
        if (row is null)
            return new Problem(404, "No such rule.", "It was removed before.");
        if (id is null)
            context.AlarmRules.Add(row);
        (row.Name, row.Document, row.OwnerId) = (name, JsonSerializer.Serialize(document with { Cluster = cluster.Name, Rule = name }, JudgeRules.Json), user.PersonId());
        row.InForce = inForce ?? row.InForce;
        // What came before it was saved is for replay; live history begins now.
        row.JudgedTo = clock.GetUtcNow().ToUnixTimeMilliseconds();
        row.Trouble = null;
        // Alarms of the old wording mean something else now.
        await context.Alarms.Where(alarm => alarm.RuleId == row.Id).ExecuteDeleteAsync(stop);
        await context.SaveChangesAsync(stop);
        return await View(context, row.Id, cluster.Name, user, stop);
    }

    /// <summary>Puts a rule in force, or takes it out.</summary>
    public async Task<Outcome<RuleView>> Switch(Guid id, bool inForce, ClaimsPrincipal user, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        if (await Find(context, id, user, stop) is not var (row, cluster))
            return new Problem(404, "No such rule.", "It was removed before.");
        (row.InForce, row.OwnerId, row.JudgedTo) = (inForce, user.PersonId(), clock.GetUtcNow().ToUnixTimeMilliseconds());
        if (!inForce)
            await context.Alarms.Where(alarm => alarm.RuleId == id).ExecuteDeleteAsync(stop);
        await context.SaveChangesAsync(stop);
        return await View(context, id, cluster, user, stop);
    }

    /// <summary>Removes a rule; what it did stays in the history.</summary>
    public async Task<Problem?> Remove(Guid id, ClaimsPrincipal user, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        if (await Find(context, id, user, stop) is not var (row, cluster))
            return new Problem(404, "No such rule.", "It was removed before.");
        context.AlarmRules.Remove(row);
        await context.SaveChangesAsync(stop);
        feed.Tell("alarms", cluster);
        return null;
    }

    /// <summary>A rule and its cluster, if this person may see it.</summary>
    internal static async Task<(AlarmRuleRow, string)?> Find(SkevinContext context, Guid id, ClaimsPrincipal user, CancellationToken stop)
    {
        var found = await context.AlarmRules.Join(context.Clusters, rule => rule.ClusterId, row => row.Id, (rule, row) => new { rule, row.Name }).FirstOrDefaultAsync(pair => pair.rule.Id == id, stop);
        return found is null || !user.Scope().Sees(found.Name) ? null : (found.rule, found.Name);
    }

    private async Task<Outcome<RuleView>> View(SkevinContext context, Guid id, string cluster, ClaimsPrincipal user, CancellationToken stop)
    {
        feed.Tell("alarms", cluster);
        return (await AlarmEndpoints.Rules(context, user, cluster, stop)).First(rule => rule.Id == id);
    }
}
