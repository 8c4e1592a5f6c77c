using Skevin.Core.Query.Run;

namespace Skevin.Core.Alarms;

/// <summary>Something that was written up: from when to when it was bad.</summary>
public sealed record Incident(long Id, string Title, DateTimeOffset From, DateTimeOffset To);

/// <summary>What a rule with another bound or hold time would have done.</summary>
/// <param name="Bound">In the unit of the enquiry.</param>
/// <param name="Raised">How often.</param>
/// <param name="Briefly">Of those, cleared within <see cref="Replay.Brief"/>.</param>
/// <param name="AtNight">Of those, raised between 22:00 and 06:00.</param>
/// <param name="Missed">Titles of written-up incidents during which, and up to <see cref="Variants.Lead"/> before, it was not raised.</param>
public sealed record Variant(double Bound, TimeSpan Hold, int Raised, int Briefly, int AtNight, IReadOnlyList<string> Missed);

/// <summary>A bound and a hold time, and why these.</summary>
public sealed record SuggestedBound(double Bound, TimeSpan Hold, string Why);

/// <summary>Tries other bounds and hold times over the same history, with the code that judges live.</summary>
public static class Variants
{
    /// <summary>A rule that is raised so long before an incident is written up to begin has seen it.</summary>
    public static readonly TimeSpan Lead = TimeSpan.FromMinutes(15);

    /// <summary>How often a week a rule may be raised without an incident before a suggestion passes over it.</summary>
    public const double Bearable = 2;

    // So often it may be, however short the history is.
    private const int Fewest = 2;

    private static readonly double[] Factors = [0.5, 0.75, 1, 1.5, 2];
    private static readonly TimeSpan[] Holds = [TimeSpan.Zero, TimeSpan.FromMinutes(1), TimeSpan.FromMinutes(5), TimeSpan.FromMinutes(15)];

    /// <summary>A table of other bounds and hold times, the present ones among them; empty for a rule with two bounds.</summary>
    /// <param name="rule">The rule.</param>
    /// <param name="bounds">Its bounds.</param>
    /// <param name="answer">History.</param>
    /// <param name="incidents">What was written up in that time.</param>
    /// <param name="night">Offset of the time zone nights are reckoned in.</param>
    public static IReadOnlyList<Variant> Table(AlarmRule rule, Bounds bounds, Answer answer, IReadOnlyList<Incident> incidents, TimeSpan night)
    {
        if (Bound(bounds) is not { } bound || bound == 0)
            return [];
        var holds = Holds.Append(rule.Hold).Distinct().Order().ToArray();
        return [.. Factors.Select(factor => factor == 1 ? bound : Rounded(bound * factor, answer.Unit)).Distinct().Order().SelectMany(other => holds.Select(hold => Try(rule, bounds, other, hold, answer, incidents, night)))];
    }

    private static readonly double[] Spreads = [3, 4, 5, 6, 8, 12];

    /// <summary>The same of a rule whose bound follows what is usual: other spreads and hold times.</summary>
    /// <inheritdoc cref="Table" path="/param"/>
    public static IReadOnlyList<Variant> OfUsual(AlarmRule rule, UsualDocument usual, Baselines.SeasonalBaseline baseline, Answer answer, IReadOnlyList<Incident> incidents, TimeSpan night)
    {
        var width = (long)answer.Every.TotalMilliseconds;
        return
        [
            .. Spreads.Append(usual.Spreads).Distinct().Order().SelectMany(spreads => Holds.Append(rule.Hold).Where(hold => hold == rule.Hold || hold.TotalMilliseconds % width == 0).Distinct().Order().Select(hold =>
            {
                var raised = Replay.Over(rule with { Hold = hold }, (labels, end) => baseline.At(labels, end, width) is { } known ? Baselines.SeasonalBaseline.BoundsOf(known, usual with { Spreads = spreads }) : null, answer);
                return new Variant(spreads, hold, raised.Count, Replay.Briefly(raised), raised.Count(stretch => IsNight(stretch.From, night)), Missed(raised, incidents));
            })),
        ];
    }

    /// <summary>
    /// The shortest hold, and the bound nearest to what is usual, that would have spoken at all, have seen every incident, and been raised at most <see cref="Bearable"/> times a week besides, and twice in any history. Bounds that
    /// are tried are quantiles of the values seen, rounded to two digits. Common practice, no source. Null where there is too little history, or no bound does.
    /// </summary>
    /// <inheritdoc cref="Table" path="/param"/>
    public static SuggestedBound? Suggest(AlarmRule rule, Bounds bounds, Answer answer, IReadOnlyList<Incident> incidents, TimeSpan night)
    {
        if (Bound(bounds) is null && bounds != Unset)
            return null;
        var above = bounds.Below is null;
        var values = answer.Series.SelectMany(series => series.Values).Where(double.IsFinite).Order().ToArray();
        if (values.Length < 100)
            return null;
        double At(double share) => values[(int)Math.Round((values.Length - 1) * (above ? share : 1 - share))];
        var weeks = answer.Series.Max(series => series.Values.Length) * answer.Every / TimeSpan.FromDays(7);
        var fitting = from share in new[] { 0.9, 0.95, 0.98, 0.99, 0.995, 0.999, 0.9999, 1 }
                      let bound = Rounded(At(share) * (share < 1 ? 1 : above ? 1.1 : 0.9), answer.Unit)
                      from hold in Holds
                      where bound != 0
                      let tried = Try(rule, above ? new Bounds(bound, null, bound, null) : new Bounds(null, bound, null, bound), bound, hold, answer, incidents, night)
                      where tried.Missed.Count == 0 && tried.Raised - incidents.Count <= Math.Max(Fewest, Bearable * weeks) && tried.Briefly <= tried.Raised / 2
                      select (share, tried);
        // What spoke, and soon, before what was silent: a bound that nothing ever passed tells least.
        var ranked = fitting.OrderBy(one => one.tried.Raised == 0).ThenBy(one => one.tried.Raised == 0 ? -one.share : 0).ThenBy(one => one.tried.Hold).ThenBy(one => one.share).ToArray();
        if (ranked is not [{ tried: { } best } found, ..])
            return null;
        var said = best.Raised == 0
            ? "Nothing in this history passed it for so long, and nothing stands out from what is usual."
            : $"It would have been raised {best.Raised} {(best.Raised == 1 ? "time" : "times")}{(incidents.Count > 0 ? $", in each of the {incidents.Count} incidents written up" : "")}; a nearer bound would have spoken more than {Math.Max(Fewest, Bearable * weeks):0} times besides, or mostly briefly.";
        return new SuggestedBound(best.Bound, best.Hold, $"{found.share * 100:0.##} of 100 values lie {(above ? "below" : "above")} it. {said}{(weeks < 1 ? " There is less than a week of history, so look again later." : "")}");
    }

    /// <summary>Bounds where there are none yet: raised above.</summary>
    public static Bounds Unset { get; } = new(double.PositiveInfinity, null, double.PositiveInfinity, null);

    /// <summary>Whether a moment lies between 22:00 and 06:00.</summary>
    /// <param name="moment">Epoch milliseconds.</param>
    /// <param name="night">Offset of the time zone.</param>
    public static bool IsNight(long moment, TimeSpan night) => DateTimeOffset.FromUnixTimeMilliseconds(moment).ToOffset(night).Hour is >= 22 or < 6;

    /// <summary>Titles of incidents that raised stretches did not see.</summary>
    public static IReadOnlyList<string> Missed(IReadOnlyList<RaisedStretch> raised, IReadOnlyList<Incident> incidents) =>
        [.. incidents.Where(incident => !raised.Any(stretch => stretch.From <= incident.To.ToUnixTimeMilliseconds() && (stretch.To ?? long.MaxValue) >= (incident.From - Lead).ToUnixTimeMilliseconds())).Select(incident => incident.Title)];

    private static Variant Try(AlarmRule rule, Bounds bounds, double bound, TimeSpan hold, Answer answer, IReadOnlyList<Incident> incidents, TimeSpan night)
    {
        // The bound for clearing keeps its distance, in proportion.
        var factor = bound / (Bound(bounds) ?? bound);
        var tried = bounds.Above is not null ? new Bounds(bound, null, Math.Min(bound, (bounds.ClearBelow ?? bound) * factor), null) : new Bounds(null, bound, null, Math.Max(bound, (bounds.ClearAbove ?? bound) * factor));
        var raised = Replay.Over(rule with { Hold = hold }, tried, answer);
        return new Variant(bound, hold, raised.Count, Replay.Briefly(raised), raised.Count(stretch => IsNight(stretch.From, night)), Missed(raised, incidents));
    }

    private static double? Bound(Bounds bounds) => bounds is { Above: { } above, Below: null } && double.IsFinite(above) ? above : bounds is { Below: { } below, Above: null } ? below : null;

    // Two digits in the unit a person would write: a bound is a round number.
    private static double Rounded(double value, string unit)
    {
        if (value == 0 || !double.IsFinite(value))
            return 0;
        var factor = unit != "By" ? 1 : Math.Abs(value) >= 1 << 20 ? 1 << 20 : 1024;
        var step = Math.Pow(10, Math.Floor(Math.Log10(Math.Abs(value / factor))) - 1);
        return Math.Round(Math.Round(value / factor / step) * step, 12) * factor;
    }
}
