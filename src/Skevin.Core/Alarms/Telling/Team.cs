using Skevin.Core.Query.Language;

namespace Skevin.Core.Alarms.Telling;

/// <summary>Somebody takes a stretch of another's duty.</summary>
public sealed record InsteadDocument(string Person, DateTimeOffset From, DateTimeOffset To);

/// <summary>People who take turns.</summary>
/// <param name="People">Names of contacts, in their order.</param>
/// <param name="Days">Days of a turn; 7 where it is not said.</param>
/// <param name="First">Day the first of them begins.</param>
/// <param name="At">Time of day of the hand-over, 09:00 where it is not said.</param>
/// <param name="Instead">Who takes over whose stretch.</param>
public sealed record RotaDocument(IReadOnlyList<string> People, DateOnly First, int? Days = null, string? At = null, IReadOnlyList<InsteadDocument>? Instead = null);

/// <summary>Who is told, and after how long without an acknowledgement.</summary>
/// <param name="Tell"><c>rota</c> for whoever is on duty then, or the name of a contact.</param>
/// <param name="After">Time since the alarm was raised; 0 where it is not said.</param>
public sealed record StepDocument(string Tell, string? After = null);

/// <summary>Hours in which only what is bad enough is told at once; the rest waits for their end.</summary>
/// <param name="From">Time of day, for example 22:00.</param>
/// <param name="To">Time of day, for example 06:00.</param>
/// <param name="Least">From which severity on it is told all the same; critical where it is not said.</param>
public sealed record QuietDocument(string From, string To, Severity? Least = null);

/// <summary>A team as it is kept: rules name it under <c>tell</c> as they name a contact.</summary>
/// <param name="Team">Its name.</param>
/// <param name="Zone">Time zone of its wall clocks, by its name in the IANA database.</param>
/// <param name="Steps">Who is told, step by step.</param>
/// <param name="Rota">Who is on duty when; may be left out where no step says <c>rota</c>.</param>
/// <param name="Quiet">Quiet hours; may be left out.</param>
public sealed record TeamDocument(string Team, string Zone, IReadOnlyList<StepDocument> Steps, RotaDocument? Rota = null, QuietDocument? Quiet = null);

/// <summary>A step that was read.</summary>
/// <param name="Contact">Name of a contact; null for whoever is on duty.</param>
public sealed record TeamStep(string? Contact, TimeSpan After);

/// <summary>A team whose document was read.</summary>
public sealed record Team(TeamDocument Document, IReadOnlyList<TeamStep> Steps, Rota? Rota, QuietHours? Quiet)
{
    /// <summary>How a step says that whoever is on duty is told.</summary>
    public const string OnDuty = "rota";

    private const int MostSteps = 10;

    /// <summary>Who is told in a step at a moment.</summary>
    public string Who(TeamStep step, DateTimeOffset moment) => step.Contact ?? Rota!.On(moment);

    /// <summary>Reads a team's document.</summary>
    /// <param name="document">The document.</param>
    /// <param name="contacts">Names of the contacts there are.</param>
    /// <param name="mistakes">What is wrong; empty where it was read.</param>
    public static Team? Read(TeamDocument document, IReadOnlySet<string> contacts, out IReadOnlyList<RuleMistake> mistakes)
    {
        var wrong = new List<RuleMistake>();
        mistakes = wrong;
        if (string.IsNullOrWhiteSpace(document.Team) || document.Team.Length > 100 || document.Team == OnDuty)
            wrong.Add(new("team", $"A team needs a name of at most 100 characters, other than '{OnDuty}'."));
        var zone = LocalTime.Zone(document.Zone);
        if (zone is null)
            wrong.Add(new("zone", $"'{document.Zone}' is not a time zone such as Europe/Berlin."));
        zone ??= TimeZoneInfo.Utc;
        void Known(string field, string? name)
        {
            if (name is null || !contacts.Contains(name))
                wrong.Add(new(field, $"There is no contact '{name}'."));
        }
        Rota? rota = null;
        if (document.Rota is { } turns)
        {
            var before = wrong.Count;
            foreach (var person in turns.People ?? [])
                Known("rota", person);
            foreach (var shift in turns.Instead ?? [])
            {
                Known("instead", shift.Person);
                if (shift.To <= shift.From)
                    wrong.Add(new("instead", $"The stretch {shift.Person} takes over ends before it begins."));
            }
            if (turns.People is not { Count: > 0 and <= 100 })
                wrong.Add(new("rota", "A rota has at least one person, and up to 100."));
            if (turns.Days is < 1 or > 366)
                wrong.Add(new("days", "A turn lasts 1 to 366 days."));
            var at = LocalTime.Clock(turns.At ?? "09:00");
            if (at is null)
                wrong.Add(new("at", $"'{turns.At}' is not a time of day such as 09:00."));
            if (wrong.Count == before)
                rota = new Rota(turns.People!, turns.Days ?? 7, turns.First, at!.Value, zone, [.. (turns.Instead ?? []).Select(shift => new Shift(shift.From, shift.To, shift.Person))]);
        }
        QuietHours? quiet = null;
        if (document.Quiet is { } hours)
        {
            if (LocalTime.Clock(hours.From) is { } from && LocalTime.Clock(hours.To) is { } to && from != to)
                quiet = new QuietHours(from, to, hours.Least ?? Severity.Critical, zone);
            else
                wrong.Add(new("quiet", "Quiet hours go from one time of day to another, for example 22:00 to 06:00."));
        }
        var steps = new List<TeamStep>();
        foreach (var step in document.Steps ?? [])
        {
            var after = step.After is null or "0" or "" ? TimeSpan.Zero : Parser.Duration(step.After.Trim());
            if (after is not { } time || time > TimeSpan.FromDays(7))
                wrong.Add(new("steps", $"'{step.After}' is not a duration such as 15m, up to 7d."));
            else if (steps.Count > 0 && time <= steps[^1].After)
                wrong.Add(new("steps", "Each step comes later than the one before."));
            else
                steps.Add(new TeamStep(step.Tell == OnDuty ? null : step.Tell, time));
            if (step.Tell != OnDuty)
                Known("steps", step.Tell);
            else if (document.Rota is null)
                wrong.Add(new("steps", "A step tells whoever is on duty, but there is no rota."));
        }
        if (document.Steps is not { Count: > 0 and <= MostSteps })
            wrong.Add(new("steps", $"A team has 1 to {MostSteps} steps: who is told first, and who when nobody acknowledges."));
        else if (steps.Count > 0 && steps[0].After > TimeSpan.Zero && wrong.Count == 0)
            wrong.Add(new("steps", "The first step is told at once."));
        return wrong.Count == 0 ? new Team(document, steps, rota, quiet) : null;
    }
}
