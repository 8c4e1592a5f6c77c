using System.Globalization;

namespace Skevin.Core.Alarms.Telling;

/// <summary>Wall clocks of a time zone as moments, across changes to and from summer time.</summary>
public static class LocalTime
{
    /// <summary>The moment at which a wall clock shows a time. One that is left out in spring is taken for the moment of the change; one that comes twice in autumn for its first.</summary>
    /// <param name="local">Day and time of day on the wall.</param>
    /// <param name="zone">Whose wall.</param>
    public static DateTimeOffset At(DateTime local, TimeZoneInfo zone)
    {
        local = DateTime.SpecifyKind(local, DateTimeKind.Unspecified);
        if (zone.IsInvalidTime(local))
        {
            // The change lies behind by less than what is left out: minute by minute to the first time there is.
            while (zone.IsInvalidTime(local))
                local = local.AddMinutes(1);
            return new DateTimeOffset(local, zone.GetUtcOffset(local)).ToUniversalTime();
        }
        // Of the two offsets of a time that comes twice, the greater is the first: summer time.
        var offset = zone.IsAmbiguousTime(local) ? zone.GetAmbiguousTimeOffsets(local).Max() : zone.GetUtcOffset(local);
        return new DateTimeOffset(local, offset).ToUniversalTime();
    }

    /// <summary>What the wall shows at a moment.</summary>
    public static DateTime Of(DateTimeOffset at, TimeZoneInfo zone) => TimeZoneInfo.ConvertTime(at, zone).DateTime;

    /// <summary>A zone by its name in the IANA database, or null.</summary>
    public static TimeZoneInfo? Zone(string? name) => name is not null && TimeZoneInfo.TryFindSystemTimeZoneById(name, out var zone) ? zone : null;

    /// <summary>A time of day such as 09:00, or null.</summary>
    public static TimeSpan? Clock(string? text) => TimeOnly.TryParseExact(text, "HH:mm", CultureInfo.InvariantCulture, DateTimeStyles.None, out var time) ? time.ToTimeSpan() : null;
}
