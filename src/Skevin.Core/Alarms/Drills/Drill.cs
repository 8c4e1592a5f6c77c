namespace Skevin.Core.Alarms.Drills;

/// <summary>Hops of the way from a fault to those who are told, and back.</summary>
public enum DrillHop
{
    /// <summary>The fault was put into the practice cluster.</summary>
    Fault,

    /// <summary>What the rule watches went beyond the bound: end of the first such slot.</summary>
    Beyond,

    /// <summary>The alarm was raised.</summary>
    Raised,

    /// <summary>The first message was accepted.</summary>
    Told,

    /// <summary>The fault was taken away.</summary>
    FaultOver,

    /// <summary>The alarm was cleared.</summary>
    Cleared,

    /// <summary>The message of it was accepted.</summary>
    ToldOver,
}

/// <summary>How a hop went.</summary>
public enum HopState
{
    /// <summary>It is not its turn.</summary>
    Ahead,

    /// <summary>It is waited for.</summary>
    Going,

    /// <summary>It happened.</summary>
    Done,

    /// <summary>It did not.</summary>
    Broken,

    /// <summary>A hop before it did not, so it was not tried.</summary>
    Skipped,
}

/// <summary>When each hop happened; null where it has not.</summary>
public sealed record DrillTimes(
    DateTimeOffset? Fault = null, DateTimeOffset? Beyond = null, DateTimeOffset? Raised = null, DateTimeOffset? Told = null, DateTimeOffset? FaultOver = null, DateTimeOffset? Cleared = null, DateTimeOffset? ToldOver = null)
{
    /// <summary>When a hop happened.</summary>
    public DateTimeOffset? this[DrillHop hop] => hop switch
    {
        DrillHop.Fault => Fault,
        DrillHop.Beyond => Beyond,
        DrillHop.Raised => Raised,
        DrillHop.Told => Told,
        DrillHop.FaultOver => FaultOver,
        DrillHop.Cleared => Cleared,
        _ => ToldOver,
    };
}

/// <summary>What there was to see of a rule since the fault was put in.</summary>
/// <param name="Trouble">Why it cannot be judged, or null.</param>
/// <param name="Slots">Slots judged since.</param>
/// <param name="Values">Slots in which a series had a value.</param>
/// <param name="LongestBeyond">The most slots in a row in which one series was beyond the bound.</param>
/// <param name="Nearest">The value nearest to raising, or furthest beyond; null where there was none.</param>
/// <param name="Recipients">Who was to be told, with what went wrong; empty for nobody.</param>
public sealed record DrillSight(string? Trouble, int Slots, int Values, int LongestBeyond, double? Nearest, IReadOnlyList<string> Recipients);

/// <summary>A hop, told.</summary>
/// <param name="Seconds">After the hop before it that it depends on; null where it did not happen.</param>
/// <param name="LeastSeconds">The least it could be by the rule's own times; null where the rule has no part in it.</param>
/// <param name="Said">Why it broke; null where it did not.</param>
public sealed record HopView(DrillHop Hop, HopState State, DateTimeOffset? At, double? Seconds, double? LeastSeconds, string? Said);

/// <summary>The chain of a drill.</summary>
public static class DrillChain
{
    /// <summary>How long after the least it could take a hop is waited for.</summary>
    public static readonly TimeSpan Patience = TimeSpan.FromMinutes(3);

    /// <summary>The least from a fault to the alarm, or from its end to the clearing.</summary>
    /// <param name="rule">The rule.</param>
    /// <param name="at">When the fault began or ended.</param>
    /// <param name="hold">What must last.</param>
    /// <remarks>The slot in which it happens is the first that can count; as many follow as the hold needs, and the last is judged when the rule's wait is over.</remarks>
    public static TimeSpan Least(AlarmRule rule, DateTimeOffset at, TimeSpan hold)
    {
        var width = (long)rule.Every.TotalMilliseconds;
        var firstEnd = at.ToUnixTimeMilliseconds() / width * width + width;
        var slots = Math.Max(1, (long)Math.Ceiling(hold.TotalMilliseconds / width));
        return TimeSpan.FromMilliseconds(firstEnd + (slots - 1) * width - at.ToUnixTimeMilliseconds()) + rule.Wait;
    }

    /// <summary>What is to be done next: null while something is waited for.</summary>
    /// <param name="times">What has happened.</param>
    /// <param name="rule">The rule.</param>
    /// <param name="nobody">Whether nobody is told, so that no message is waited for.</param>
    /// <param name="now">The time.</param>
    /// <returns>Take the fault away, or end the drill; null to wait on.</returns>
    public static DrillAct? Next(DrillTimes times, AlarmRule rule, bool nobody, DateTimeOffset now)
    {
        if (times.Fault is not { } fault)
            return null;
        if (times.FaultOver is null)
            return times.Raised is { } raised
                ? times.Told is not null || nobody || now - raised > Patience ? DrillAct.TakeFaultAway : null
                : now - fault > Least(rule, fault, rule.Hold) + Patience ? DrillAct.TakeFaultAway : null;
        if (times.Raised is null)
            return DrillAct.End;
        if (times.Cleared is { } cleared)
            return times.ToldOver is not null || times.Told is null || now - cleared > Patience ? DrillAct.End : null;
        return now - times.FaultOver > Least(rule, times.FaultOver.Value, rule.ClearHold) + Patience ? DrillAct.End : null;
    }

    /// <summary>All hops, told.</summary>
    /// <param name="times">What has happened.</param>
    /// <param name="rule">The rule as it was drilled.</param>
    /// <param name="sight">What there was to see.</param>
    /// <param name="ended">Whether the drill is over.</param>
    /// <param name="broken">Why it was broken off before its end; null where it was not.</param>
    public static IReadOnlyList<HopView> Hops(DrillTimes times, AlarmRule rule, DrillSight sight, bool ended, string? broken = null)
    {
        var hops = new List<HopView>();
        var over = false;
        foreach (var hop in Enum.GetValues<DrillHop>())
        {
            var at = times[hop];
            var before = times[Before(hop)];
            // The message of the end goes to those who were told of the beginning.
            var skipped = over && hop != DrillHop.FaultOver || hop == DrillHop.ToldOver && times.Told is null && (ended || times.FaultOver is not null);
            var state = at is not null ? HopState.Done : skipped ? HopState.Skipped
                : hop == DrillHop.Told && times.FaultOver is not null ? HopState.Broken
                : ended ? HopState.Broken : hops.Count > 0 && hops[^1].State is HopState.Going or HopState.Ahead ? HopState.Ahead : HopState.Going;
            if (state == HopState.Broken && hop is DrillHop.Beyond or DrillHop.Raised or DrillHop.Cleared)
                over = true;
            hops.Add(new HopView(hop, state, at, at is not null && before is not null ? (at - before).Value.TotalSeconds : null, LeastOf(hop, times, rule),
                state == HopState.Broken ? broken ?? Why(hop, rule, sight) : null));
        }
        return hops;
    }

    // A message is made in the moment of the transition and sent at once, so its own least is nothing.
    private static double? LeastOf(DrillHop hop, DrillTimes times, AlarmRule rule) => hop switch
    {
        DrillHop.Raised when times.Fault is { } fault => Least(rule, fault, rule.Hold).TotalSeconds,
        DrillHop.Cleared when times.FaultOver is { } end => Least(rule, end, rule.ClearHold).TotalSeconds,
        DrillHop.Told or DrillHop.ToldOver => 0,
        _ => null,
    };

    private static DrillHop Before(DrillHop hop) => hop switch
    {
        DrillHop.Beyond or DrillHop.Raised => DrillHop.Fault,
        DrillHop.Told => DrillHop.Raised,
        DrillHop.FaultOver => DrillHop.Fault,
        DrillHop.Cleared => DrillHop.FaultOver,
        DrillHop.ToldOver => DrillHop.Cleared,
        _ => DrillHop.Fault,
    };

    private static string Why(DrillHop hop, AlarmRule rule, DrillSight sight)
    {
        var bound = rule.Document.Above is { } above ? $"above {above}" : rule.Document.Below is { } below ? $"below {below}" : $"outside {string.Join(" to ", rule.Document.Outside ?? [])}";
        return hop switch
        {
            DrillHop.Fault => "The practice cluster did not take the fault.",
            DrillHop.Beyond or DrillHop.Raised when sight.Trouble is { } trouble => $"The rule cannot be judged: {trouble}",
            DrillHop.Beyond or DrillHop.Raised when sight.Slots == 0 => "No slot of the rule was judged since. Is it in force?",
            DrillHop.Beyond or DrillHop.Raised when sight.Values == 0 => "The enquiry left no values: what it asks for does not arrive. See Arrivals.",
            DrillHop.Beyond => $"Nothing went {bound}: the nearest was {Number(sight.Nearest)}, in {sight.Slots} slots. This fault does not reach the rule, or the bound lies too far.",
            DrillHop.Raised => $"It was {bound} for {sight.LongestBeyond} {(sight.LongestBeyond == 1 ? "slot" : "slots")} of {Query.Language.Units.Write(rule.Every)}, and must be for {Query.Language.Units.Write(rule.Hold)}.",
            DrillHop.Told or DrillHop.ToldOver => sight.Recipients.Count == 0 ? "The rule tells nobody. Choose a contact or a team in its sentence." : $"No message was accepted: {string.Join("; ", sight.Recipients)}.",
            DrillHop.Cleared => "The fault is over, but the alarm still stands: see what it watches, and its bound for clearing.",
            _ => "The fault could not be taken away. Switch it off under Clusters, Practice faults.",
        };
    }

    private static string Number(double? value) => value?.ToString("G4", System.Globalization.CultureInfo.InvariantCulture) ?? "nothing";
}

/// <summary>What a drill does next.</summary>
public enum DrillAct
{
    /// <summary>Take the fault out of the practice cluster.</summary>
    TakeFaultAway,

    /// <summary>End the drill.</summary>
    End,
}
