namespace Skevin.Core.Alarms.Drills;

/// <summary>A series in a judged slot, as live judging records it.</summary>
public sealed record SlotVerdict(string Labels, double? Value, AlarmState State);

/// <summary>Sums up the slots that were judged during a drill.</summary>
public static class DrillSights
{
    /// <summary>Does it.</summary>
    /// <param name="slots">End and verdicts of each slot, in order.</param>
    /// <param name="below">Whether the rule is raised below its bound.</param>
    public static (int Slots, int Values, int LongestBeyond, long? FirstBeyond, double? Nearest) Of(IEnumerable<(long End, SlotVerdict[] Verdicts)> slots, bool below)
    {
        var (judged, filled, longest) = (0, 0, 0);
        long? first = null;
        double? nearest = null;
        var running = new Dictionary<string, int>();
        foreach (var (end, verdicts) in slots)
        {
            judged++;
            filled += verdicts.Any(verdict => verdict.Value is not null) ? 1 : 0;
            foreach (var verdict in verdicts)
            {
                if (verdict.Value is { } value)
                    nearest = nearest is not { } best ? value : below ? Math.Min(best, value) : Math.Max(best, value);
                var beyond = verdict.State is AlarmState.Holding or AlarmState.Raised;
                running[verdict.Labels] = beyond ? running.GetValueOrDefault(verdict.Labels) + 1 : 0;
                longest = Math.Max(longest, running[verdict.Labels]);
                if (beyond)
                    first ??= end;
            }
        }
        return (judged, filled, longest, first, nearest);
    }
}
