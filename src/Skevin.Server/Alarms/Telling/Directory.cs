using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Telling;
using Skevin.Storage;

namespace Skevin.Server.Alarms.Telling;

/// <summary>Somebody to tell.</summary>
/// <param name="Team">The team through which; null where the rule names the contact.</param>
/// <param name="Step">The team's step.</param>
/// <param name="At">When: now, or at the end of quiet hours.</param>
public sealed record Recipient(ContactRow Contact, string? Team, int Step, DateTimeOffset At);

/// <summary>Contacts and teams as they are in one pass.</summary>
public sealed class Directory
{
    private readonly Dictionary<string, ContactRow> _contacts;
    private readonly Dictionary<string, Team> _teams = [];

    private Directory(IEnumerable<ContactRow> contacts, IEnumerable<TeamRow> teams)
    {
        _contacts = contacts.ToDictionary(contact => contact.Name);
        var names = _contacts.Keys.ToHashSet();
        foreach (var row in teams)
            if (Team.Read(Document(row), names, out _) is { } team)
                _teams[row.Name] = team;
    }

    /// <summary>Reads them.</summary>
    public static async Task<Directory> Load(SkevinContext context, CancellationToken stop) =>
        new(await context.Contacts.AsNoTracking().ToListAsync(stop), await context.Teams.AsNoTracking().ToListAsync(stop));

    /// <summary>A team's document.</summary>
    public static TeamDocument Document(TeamRow row) => JsonSerializer.Deserialize<TeamDocument>(row.Document, JudgeRules.Json)!;

    /// <summary>All contacts.</summary>
    public IEnumerable<ContactRow> Contacts => _contacts.Values;

    /// <summary>A contact by its name, or null.</summary>
    public ContactRow? Contact(string name) => _contacts.GetValueOrDefault(name);

    /// <summary>Who is told when an alarm is raised.</summary>
    /// <param name="names">Contacts and teams the rule names.</param>
    /// <param name="severity">How bad it is.</param>
    /// <param name="now">The time.</param>
    public IEnumerable<Recipient> First(IEnumerable<string> names, Severity severity, DateTimeOffset now)
    {
        foreach (var name in names)
            if (_contacts.TryGetValue(name, out var contact))
                yield return new(contact, null, 0, now);
            else if (_teams.TryGetValue(name, out var team) && Of(team, 0, severity, now) is { } first)
                yield return first;
    }

    /// <summary>Who is told since nobody has acknowledged: steps after the first whose time has come.</summary>
    /// <param name="names">Contacts and teams the rule names.</param>
    /// <param name="severity">How bad it is.</param>
    /// <param name="raised">When it was raised.</param>
    /// <param name="now">The time.</param>
    public IEnumerable<Recipient> Next(IEnumerable<string> names, Severity severity, DateTimeOffset raised, DateTimeOffset now)
    {
        foreach (var team in names.Select(name => _teams.GetValueOrDefault(name)).OfType<Team>())
            for (var step = 1; step < team.Steps.Count; step++)
                if (now - raised >= team.Steps[step].After && Of(team, step, severity, now) is { } next)
                    yield return next;
    }

    private Recipient? Of(Team team, int step, Severity severity, DateTimeOffset now) =>
        _contacts.TryGetValue(team.Who(team.Steps[step], now), out var contact) ? new(contact, team.Document.Team, step, team.Quiet?.Until(now, severity) ?? now) : null;
}
