namespace Skevin.StandIn.Model;

/// <summary>How many requests enter at a moment: a daily curve, the opening at 06:00, smaller ones every two hours.</summary>
public static class LoadCurve
{
    /// <summary>Requests a second by day without an opening.</summary>
    public const double Base = 8;

    private static readonly TimeSpan Rise = TimeSpan.FromMinutes(2);

    /// <summary>Requests a second entering at a moment.</summary>
    /// <param name="time">The moment, in the demo's time zone (UTC).</param>
    public static double At(DateTimeOffset time)
    {
        var hour = time.TimeOfDay.TotalHours;
        // Quiet at three in the night, busiest at three in the afternoon.
        var daily = 0.55 + 0.45 * Math.Sin((hour - 9) / 24 * 2 * Math.PI);
        var factor = 1.0;
        var even = Math.Floor(hour / 2) * 2;
        foreach (var opening in new[] { even, even - 2 })
        {
            var since = TimeSpan.FromHours(hour - opening);
            if (since < TimeSpan.Zero)
                continue;
            var full = opening is 6;
            factor += (full ? 9 : 2) * Shape(since, TimeSpan.FromMinutes(full ? 25 : 14));
        }
        return Base * daily * factor;
    }

    private static double Shape(TimeSpan since, TimeSpan decay) =>
        since < Rise ? since / Rise : Math.Exp(-(since - Rise) / decay);
}
