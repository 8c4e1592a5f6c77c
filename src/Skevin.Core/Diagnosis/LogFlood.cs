namespace Skevin.Core.Diagnosis;

/// <summary>A container writes many times what it used to. Common practice: ten times its own median, and at least ten lines a second.</summary>
public static class LogFlood
{
    private const double Times = 10;
    private const double LeastPerMinute = 600;

    /// <summary>One trouble a container.</summary>
    public static IEnumerable<Trouble> Find(IEnumerable<LineRate> logs) => logs.Where(log => log.Lately >= LeastPerMinute && log.Lately >= Times * Math.Max(1, log.Before)).Select(log => new Trouble(
        $"{log.Source} floods its log",
        $"{log.Source} writes {log.Lately:N0} lines a minute; in the hour before it was {log.Before:N0}. Where the runtime rotates faster than lines are read, lines are lost, and what others write is pushed out of the store sooner.",
        "See which kind of line it is and leave that kind out, or mend the workload.",
        TroublePlace.Trimming,
        [$"{log.Lately:N0} lines a minute over the last two minutes", $"{log.Before:N0} lines a minute, median of the hour before"]));
}
