using Skevin.Core.Query.Language;

namespace Skevin.Core.Dashboards;

/// <summary>A bound drawn on a strip; figures beyond it bear the mark of its severity.</summary>
/// <param name="At">A quantity as in the language, such as <c>400ms</c>; a bare number is in the enquiry's unit.</param>
/// <param name="Severity">One of <see cref="Sheet.Severities"/>.</param>
/// <param name="Below">Whether what lies below is beyond it; otherwise what lies above.</param>
public sealed record StripBound(string At, string Severity, bool Below = false);

/// <summary>A strip of a sheet, a chart over time, or a block between strips, which is no curve; each made from an enquiry.</summary>
/// <param name="Title">What it shows.</param>
/// <param name="Subtitle">Of what.</param>
/// <param name="Text">The enquiry.</param>
/// <param name="Draw">One of <see cref="Sheet.Draws"/>.</param>
/// <param name="Height">Pixels, 48 to 480.</param>
/// <param name="By">Field that tells its series apart.</param>
/// <param name="About">What the figure means and where it comes from.</param>
/// <param name="Kept">The kept enquiry it is made from: the text follows that one's; null where the text is its own.</param>
/// <param name="Bounds">Bounds drawn on it.</param>
/// <param name="Colours">Value of <paramref name="By"/> → one of <see cref="Sheet.Colours"/>; the others have colours of their own.</param>
public sealed record Strip(
    string Title, string Subtitle, string Text, string Draw, int Height, string By, string About, string? Kept = null, IReadOnlyList<StripBound>? Bounds = null, IReadOnlyDictionary<string, string>? Colours = null);

/// <summary>A field of which values can be chosen above a sheet; they become a step of its enquiries.</summary>
/// <param name="Field">The field, such as <c>node</c>.</param>
/// <param name="From">Metric or rows whose values are offered; null for what the first strip begins with.</param>
public sealed record SheetChoice(string Field, string? From = null);

/// <summary>A sheet of strips.</summary>
/// <param name="Id">Its name in addresses.</param>
/// <param name="Version">Counts its changes; 0 of one that ships.</param>
/// <param name="ChangedBy">Who changed it last.</param>
/// <param name="ChangedAt">When.</param>
/// <param name="Choices">What can be chosen above it, beside the scope.</param>
public sealed record Sheet(
    string Id, string Title, string About, IReadOnlyList<Strip> Strips, int Version = 0, string? ChangedBy = null, DateTimeOffset? ChangedAt = null, IReadOnlyList<SheetChoice>? Choices = null)
{
    /// <summary>Most strips of a sheet.</summary>
    public const int MostStrips = 60;

    /// <summary>Most fields to choose of.</summary>
    public const int MostChoices = 6;

    /// <summary>Most bounds of a strip.</summary>
    public const int MostBounds = 4;

    /// <summary>How strips are drawn over time; as heat each series is a band, the stronger the greater; apart each has a chart of its own, one under the other.</summary>
    public static readonly string[] Curves = ["lines", "area", "stack", "steps", "heat", "bars", "apart"];

    /// <summary>How blocks are drawn: the newest value large, the newest values as ranked bars, a share as a gauge, the answer as a table, log lines, or who talks to whom in lanes.</summary>
    public static readonly string[] Blocks = ["figure", "ranked", "gauge", "table", "log", "lanes"];

    /// <summary>All ways to draw.</summary>
    public static readonly string[] Draws = [.. Curves, .. Blocks];

    /// <summary>Severities of a bound, of RFC 8632.</summary>
    public static readonly string[] Severities = ["warning", "minor", "major", "critical"];

    /// <summary>Colours by meaning: the severities, what is well, the four signals, and what is of no account.</summary>
    public static readonly string[] Colours = [.. Severities, "clear", "metrics", "logs", "traces", "flows", "quiet"];

    /// <summary>What is wrong with it, in sentences that say where; empty where it can be kept.</summary>
    public IEnumerable<string> Problems()
    {
        if (string.IsNullOrWhiteSpace(Title) || Title.Length > 120)
            yield return "A sheet has a title of up to 120 characters.";
        if (Strips is not { Count: > 0 })
        {
            yield return "A sheet has at least one strip.";
            yield break;
        }
        if (Strips.Count > MostStrips)
            yield return $"A sheet has at most {MostStrips} strips; this one has {Strips.Count}.";
        if (Choices is { Count: > MostChoices })
            yield return $"A sheet has at most {MostChoices} choices; this one has {Choices.Count}.";
        foreach (var (i, choice) in (Choices ?? []).Index())
            if (string.IsNullOrWhiteSpace(choice.Field) || choice.Field.Length > 200)
                yield return $"choices[{i}]: field, the name of what is chosen, is empty or too long.";
        foreach (var (i, strip) in Strips.Index())
            foreach (var problem in Problems(strip))
                yield return $"strips[{i}]{(string.IsNullOrWhiteSpace(strip.Title) ? "" : $" '{strip.Title}'")}: {problem}";
    }

    private static IEnumerable<string> Problems(Strip strip)
    {
        if (string.IsNullOrWhiteSpace(strip.Title) || strip.Title.Length > 120)
            yield return "a strip has a title of up to 120 characters.";
        if (!Draws.Contains(strip.Draw))
            yield return $"draw is one of {string.Join(", ", Draws)}, not '{strip.Draw}'.{Near(strip.Draw, Draws)}";
        if (strip.Height is < 48 or > 480)
            yield return $"height is 48 to 480, not {strip.Height}.";
        if (strip.Bounds is { Count: > MostBounds })
            yield return $"a strip has at most {MostBounds} bounds.";
        foreach (var bound in strip.Bounds ?? [])
        {
            if (!Severities.Contains(bound.Severity))
                yield return $"severity of a bound is one of {string.Join(", ", Severities)}, not '{bound.Severity}'.{Near(bound.Severity, Severities)}";
            if (!Units.IsQuantity(bound.At ?? "", out var wrong))
                yield return $"at of a bound: {wrong}";
        }
        foreach (var colour in (strip.Colours?.Values ?? []).Except(Colours))
            yield return $"a colour is one of {string.Join(", ", Colours)}, not '{colour}'.{Near(colour, Colours)}";
        if (Parser.Mistake(strip.Text) is { } mistake)
            yield return mistake;
    }

    private static string Near(string? word, string[] words) => EditDistance.Nearest(word ?? "", words, 1).FirstOrDefault() is { } near ? $" The nearest: {near}." : "";
}
