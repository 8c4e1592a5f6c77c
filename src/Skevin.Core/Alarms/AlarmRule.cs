using Skevin.Core.Query.Language;

namespace Skevin.Core.Alarms;

/// <summary>Severities of RFC 8632, least first.</summary>
public enum Severity
{
    /// <summary>Something may need a look.</summary>
    Warning,

    /// <summary>A small part does not work.</summary>
    Minor,

    /// <summary>Service suffers.</summary>
    Major,

    /// <summary>Service is out.</summary>
    Critical,
}

/// <summary>What a slot without data means.</summary>
public enum MissingData
{
    /// <summary>The state stays.</summary>
    Keep,

    /// <summary>As if the bound were passed.</summary>
    Raise,

    /// <summary>As if all were well.</summary>
    Clear,
}

/// <summary>When an alarm is cleared, where that differs from when it is raised.</summary>
/// <param name="Above">For rules with <c>below</c>.</param>
/// <param name="Below">For rules with <c>above</c>.</param>
/// <param name="Hold">How long.</param>
public sealed record ClearDocument(string? Above = null, string? Below = null, string? Hold = null);

/// <summary>On which side of the usual.</summary>
public enum UsualSide
{
    /// <summary>Far above.</summary>
    High,

    /// <summary>Far below.</summary>
    Low,

    /// <summary>Far from it.</summary>
    Either,
}

/// <summary>A bound that follows what is usual in the same hour of the week.</summary>
/// <param name="Side">On which side.</param>
/// <param name="Spreads">How many spreads from the median are too far, 1 to 50.</param>
/// <param name="Weeks">From how many weeks before, 2 to 8.</param>
public sealed record UsualDocument(UsualSide Side = UsualSide.High, double Spreads = 5, int Weeks = 4);

/// <summary>A rule as it stands in a file and in the API. Bounds and durations are text with units.</summary>
/// <param name="Rule">Its name.</param>
/// <param name="When">The enquiry.</param>
/// <param name="Above">Raised above this bound.</param>
/// <param name="Below">Or below this one.</param>
/// <param name="Outside">Or outside these two.</param>
/// <param name="Hold">Must last this long; default 0.</param>
/// <param name="Clear">Default: the same bound, no hold.</param>
/// <param name="Severity">warning, minor, major or critical.</param>
/// <param name="Missing">keep, raise or clear.</param>
/// <param name="Wait">How long after its end a slot is judged; default 30 s.</param>
/// <param name="Every">Width of a slot; default from the enquiry, or 15 s; 1 min for rows.</param>
/// <param name="Tell">Names of contacts.</param>
/// <param name="Runbook">Where to read what to do.</param>
/// <param name="Usual">Or raised far from what is usual in the same hour of the week.</param>
/// <param name="Cluster">Cluster it watches; may be left out where there is one.</param>
public sealed record RuleDocument(
    string Rule, string When, string? Above = null, string? Below = null, IReadOnlyList<string>? Outside = null, string? Hold = null,
    ClearDocument? Clear = null, Severity Severity = Severity.Major, MissingData Missing = MissingData.Keep, string? Wait = null,
    string? Every = null, IReadOnlyList<string>? Tell = null, string? Runbook = null, string? Cluster = null, UsualDocument? Usual = null);

/// <summary>A mistake in a rule.</summary>
/// <param name="Field">The field it is in.</param>
/// <param name="Message">What is wrong and what to write.</param>
public sealed record RuleMistake(string Field, string Message);

/// <summary>A rule whose text was read; bounds get numbers once the enquiry's unit is known.</summary>
public sealed record AlarmRule(
    RuleDocument Document, Enquiry Enquiry, TimeSpan Every, TimeSpan Hold, TimeSpan ClearHold, TimeSpan Wait)
{
    /// <summary>Least width of a slot.</summary>
    public static readonly TimeSpan LeastEvery = TimeSpan.FromSeconds(5);

    /// <summary>Least width of a slot that is compared with earlier weeks: of those summaries are kept that wide.</summary>
    public static readonly TimeSpan LeastUsual = TimeSpan.FromMinutes(5);

    /// <summary>Greatest such width: two in an hour.</summary>
    public static readonly TimeSpan MostUsual = TimeSpan.FromMinutes(30);

    /// <summary>Reads a rule's document.</summary>
    /// <returns>The rule, or null and what is wrong.</returns>
    public static AlarmRule? Read(RuleDocument document, out IReadOnlyList<RuleMistake> mistakes)
    {
        var wrong = new List<RuleMistake>();
        mistakes = wrong;
        if (string.IsNullOrWhiteSpace(document.Rule) || document.Rule.Length > 200)
            wrong.Add(new("rule", "A rule needs a name of at most 200 characters."));
        Enquiry? enquiry = null;
        TimeSpan? named = null;
        try
        {
            enquiry = Parser.Read(document.When ?? "");
            named = Query.Run.Slots.WidthOf(enquiry);
            if (enquiry.Answered is { Source: RowSource } answered && !answered.Steps.Any(step => step is AggregateStep))
                wrong.Add(new("when", "The enquiry gives rows; a rule needs values over time. Count them: -> count."));
        }
        catch (EnquiryException problem)
        {
            wrong.Add(new("when", $"Line {problem.Error.Line}, column {problem.Error.Column}: {problem.Error.Message}"));
        }
        var bounds = (document.Above is null ? 0 : 1) + (document.Below is null ? 0 : 1) + (document.Outside is null ? 0 : 1) + (document.Usual is null ? 0 : 1);
        if (bounds != 1)
            wrong.Add(new("above", "A rule has one of above, below, outside and usual."));
        if (document.Usual is { Spreads: not (>= 1 and <= 50) })
            wrong.Add(new("usual", "A value is unusual from 1 to 50 spreads on."));
        if (document.Usual is { Weeks: < 2 or > 8 })
            wrong.Add(new("usual", "What is usual is known from 2 to 8 weeks."));
        if (document is { Usual: not null, Clear: { Above: not null } or { Below: not null } })
            wrong.Add(new("clear", "A rule with usual is cleared by its own bound; it may have a hold for clearing."));
        if (document.Outside is { Count: not 2 })
            wrong.Add(new("outside", "outside takes two bounds, the lower first."));
        if (document.Clear is { Above: not null, Below: not null })
            wrong.Add(new("clear", "clear takes one bound."));
        if (document.Clear?.Below is not null && document.Above is null || document.Clear?.Above is not null && document.Below is null)
            wrong.Add(new("clear", "A rule with above is cleared below a bound, a rule with below above one."));
        var ofRows = enquiry?.Parts.Any(part => part.Body.Source is RowSource) == true;
        var every = Time("every", document.Every) ?? named ?? (document.Usual is not null ? LeastUsual : TimeSpan.FromSeconds(ofRows ? 60 : 15));
        if (document.Usual is not null && (every < LeastUsual || every > MostUsual))
            wrong.Add(new("every", $"A slot that is compared with the same hour of earlier weeks is {Units.Write(LeastUsual)} to {Units.Write(MostUsual)} wide."));
        if (every < LeastEvery)
            wrong.Add(new("every", $"A slot is at least {Units.Write(LeastEvery)} wide."));
        if (document.Every is not null && named is not null && named != every)
            wrong.Add(new("every", "The enquiry names another width; leave one of the two out."));
        var rule = new AlarmRule(document, enquiry!, every, Time("hold", document.Hold) ?? TimeSpan.Zero,
            Time("clear", document.Clear?.Hold) ?? TimeSpan.Zero, Time("wait", document.Wait) ?? TimeSpan.FromSeconds(30));
        return wrong.Count == 0 ? rule : null;

        TimeSpan? Time(string field, string? text)
        {
            if (string.IsNullOrWhiteSpace(text) || text.Trim() == "0")
                return text is null ? null : TimeSpan.Zero;
            if (Parser.Duration(text.Trim()) is { } duration)
                return duration;
            wrong.Add(new(field, $"'{text}' is not a duration such as 30s, 5m or 1h."));
            return null;
        }
    }

    /// <summary>The bounds as numbers in the enquiry's unit.</summary>
    /// <returns>Null and a sentence where a bound's unit does not fit.</returns>
    public Bounds? BoundsIn(string unit, out string? error)
    {
        error = null;
        // Bounds that follow what is usual are another in each slot.
        if (Document.Usual is not null)
            return Bounds.None;
        double? Number(string? text, ref string? problem)
        {
            if (text is null)
                return null;
            if (Units.TryBound(text, unit, out var number, out var why))
                return number;
            problem = why;
            return null;
        }
        var above = Number(Document.Above ?? Document.Outside?[1], ref error);
        var below = Number(Document.Below ?? Document.Outside?[0], ref error);
        var clearBelow = Number(Document.Clear?.Below, ref error) ?? above;
        var clearAbove = Number(Document.Clear?.Above, ref error) ?? below;
        if (error is null && (clearBelow > above || clearAbove < below))
            error = "The bound for clearing lies beyond the bound for raising, so the alarm would be raised and cleared at once.";
        return error is null ? new Bounds(above, below, clearBelow, clearAbove) : null;
    }
}

/// <summary>Bounds in the unit of the enquiry. Raised above or below the first two, cleared within the others.</summary>
public sealed record Bounds(double? Above, double? Below, double? ClearBelow, double? ClearAbove)
{
    /// <summary>No bounds.</summary>
    public static Bounds None { get; } = new(null, null, null, null);

    /// <summary>Whether a value raises.</summary>
    public bool Raises(double value) => value > Above || value < Below;

    /// <summary>Whether a value clears: inside the bounds for clearing, and no longer beyond those for raising.</summary>
    public bool Clears(double value) => !Raises(value) && !(value > ClearBelow) && !(value < ClearAbove);
}
