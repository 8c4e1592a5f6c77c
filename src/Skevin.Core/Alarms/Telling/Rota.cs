namespace Skevin.Core.Alarms.Telling;

/// <summary>Somebody on duty from one moment to another.</summary>
/// <param name="Person">Name of a contact.</param>
/// <param name="Instead">Of whom they took it over; null where it is their own turn.</param>
public sealed record Shift(DateTimeOffset From, DateTimeOffset To, string Person, string? Instead = null);

/// <summary>People who take turns.</summary>
/// <param name="people">Names of contacts, in their order.</param>
/// <param name="days">Days of a turn, 1 or more.</param>
/// <param name="first">Day on which the first of them begins.</param>
/// <param name="at">Time of day at which a turn ends and the next begins.</param>
/// <param name="zone">On whose wall.</param>
/// <param name="instead">Stretches somebody else has taken over; of those that overlap the last holds.</param>
public sealed class Rota(IReadOnlyList<string> people, int days, DateOnly first, TimeSpan at, TimeZoneInfo zone, IReadOnlyList<Shift> instead)
{
    /// <summary>Who is on duty.</summary>
    public string On(DateTimeOffset moment) => instead.LastOrDefault(shift => moment >= shift.From && moment < shift.To)?.Person ?? people[Turn(moment)];

    /// <summary>All shifts that reach into a window, in order; none overlaps another, and none is missing.</summary>
    public IReadOnlyList<Shift> Between(DateTimeOffset from, DateTimeOffset to)
    {
        var number = Number(from);
        var cuts = new SortedSet<DateTimeOffset> { Begin(number) };
        for (var next = number + 1; Begin(next - 1) < to; next++)
            cuts.Add(Begin(next));
        var (start, end) = (cuts.Min, cuts.Max);
        foreach (var shift in instead)
            foreach (var edge in new[] { shift.From.ToUniversalTime(), shift.To.ToUniversalTime() })
                if (edge > start && edge < end)
                    cuts.Add(edge);
        var list = new List<Shift>();
        foreach (var (begin, until) in cuts.Zip(cuts.Skip(1)))
        {
            var (own, on) = (people[Turn(begin)], On(begin));
            // One person's neighbouring shifts are one.
            if (list.LastOrDefault() is { } last && last.Person == on && last.Instead == (on == own ? null : own))
                list[^1] = last with { To = until };
            else
                list.Add(new Shift(begin, until, on, on == own ? null : own));
        }
        return [.. list.Where(shift => shift.To > from && shift.From < to)];
    }

    private int Turn(DateTimeOffset moment) => (int)(((Number(moment) % people.Count) + people.Count) % people.Count);

    // Turns are counted by days of the calendar, not by hours: one over a change of the clock is an hour shorter or longer.
    private long Number(DateTimeOffset moment)
    {
        var wall = LocalTime.Of(moment, zone);
        var number = (long)Math.Floor((DateOnly.FromDateTime(wall).DayNumber - first.DayNumber) / (double)days);
        if (moment < Begin(number))
            number--;
        else if (moment >= Begin(number + 1))
            number++;
        return number;
    }

    private DateTimeOffset Begin(long number) => LocalTime.At(first.AddDays(checked((int)number * days)).ToDateTime(TimeOnly.MinValue) + at, zone);
}
