namespace Skevin.Core.Alarms.Telling;

/// <summary>Hours in which only what is bad enough is told at once.</summary>
/// <param name="from">Time of day they begin.</param>
/// <param name="to">Time of day they end; earlier than the beginning where they go over midnight.</param>
/// <param name="least">From which severity on it is told all the same.</param>
/// <param name="zone">On whose wall.</param>
public sealed class QuietHours(TimeSpan from, TimeSpan to, Severity least, TimeZoneInfo zone)
{
    /// <summary>Until when a message waits; null where it is told at once.</summary>
    public DateTimeOffset? Until(DateTimeOffset moment, Severity severity)
    {
        if (severity >= least)
            return null;
        var wall = LocalTime.Of(moment, zone);
        // The night that began today, or the one that began yesterday and is not over.
        foreach (var day in new[] { wall.Date, wall.Date.AddDays(-1) })
        {
            var (begin, end) = (LocalTime.At(day + from, zone), LocalTime.At((to <= from ? day.AddDays(1) : day) + to, zone));
            if (moment >= begin && moment < end)
                return end;
        }
        return null;
    }
}
