using Skevin.Core.Query.Language;

namespace Skevin.Core.Dashboards;

/// <summary>A strip of a sheet, a chart over time, or a block between strips, which is no curve; each made from an enquiry.</summary>
/// <param name="Title">What it shows.</param>
/// <param name="Subtitle">Of what.</param>
/// <param name="Text">The enquiry.</param>
/// <param name="Draw">One of <see cref="Sheet.Draws"/>.</param>
/// <param name="Height">Pixels, 48 to 480.</param>
/// <param name="By">Field that tells its series apart.</param>
/// <param name="About">What the figure means and where it comes from.</param>
public sealed record Strip(string Title, string Subtitle, string Text, string Draw, int Height, string By, string About);

/// <summary>A sheet of strips.</summary>
/// <param name="Id">Its name in addresses.</param>
/// <param name="Version">Counts its changes; 0 of one that ships.</param>
/// <param name="ChangedBy">Who changed it last.</param>
/// <param name="ChangedAt">When.</param>
public sealed record Sheet(string Id, string Title, string About, IReadOnlyList<Strip> Strips, int Version = 0, string? ChangedBy = null, DateTimeOffset? ChangedAt = null)
{
    /// <summary>Most strips of a sheet.</summary>
    public const int MostStrips = 60;

    /// <summary>How strips are drawn over time; as heat each series is a band, the darker the greater.</summary>
    public static readonly string[] Curves = ["lines", "area", "stack", "steps", "heat"];

    /// <summary>How blocks are drawn: the newest value large, the newest values as ranked bars, a share as a gauge, the answer as a table, or log lines.</summary>
    public static readonly string[] Blocks = ["figure", "ranked", "gauge", "table", "log"];

    /// <summary>All ways to draw.</summary>
    public static readonly string[] Draws = [.. Curves, .. Blocks];

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
        foreach (var (i, strip) in Strips.Index())
        {
            var where = $"strips[{i}]{(string.IsNullOrWhiteSpace(strip.Title) ? "" : $" '{strip.Title}'")}";
            if (string.IsNullOrWhiteSpace(strip.Title) || strip.Title.Length > 120)
                yield return $"{where}: a strip has a title of up to 120 characters.";
            if (!Draws.Contains(strip.Draw))
                yield return $"{where}: draw is one of {string.Join(", ", Draws)}, not '{strip.Draw}'.{(EditDistance.Nearest(strip.Draw ?? "", Draws, 1).FirstOrDefault() is { } near ? $" The nearest: {near}." : "")}";
            if (strip.Height is < 48 or > 480)
                yield return $"{where}: height is 48 to 480, not {strip.Height}.";
            if (Mistake(strip.Text) is { } mistake)
                yield return $"{where}: {mistake}";
        }
    }

    private static string? Mistake(string? text)
    {
        if (string.IsNullOrWhiteSpace(text))
            return "text, the enquiry, is empty.";
        try
        {
            Parser.Read(text);
            return null;
        }
        catch (EnquiryException wrong)
        {
            return $"line {wrong.Error.Line}, column {wrong.Error.Column} of the enquiry: {wrong.Error.Message.Split(" Steps:")[0]}";
        }
    }
}
