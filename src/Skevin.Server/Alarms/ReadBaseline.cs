using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Baselines;
using Skevin.Core.Query.Run;

namespace Skevin.Server.Alarms;

/// <summary>Asks a rule's enquiry of the weeks before, to know what is usual.</summary>
internal static class ReadBaseline
{
    private const long Hour = 3_600_000;
    private static readonly Limits History = new(Slots: 90_000);

    /// <summary>Whole hours around a window: what is usual is known hour by hour.</summary>
    public static Window Hours(Window window) => new(window.From / Hour * Hour, (window.To + Hour - 1) / Hour * Hour);

    /// <summary>What is usual for the slots of a window.</summary>
    public static async Task<SeasonalBaseline> Run(AlarmRule rule, UsualDocument usual, Window window, EnquiryReader reader, CancellationToken stop)
    {
        var hours = Hours(window);
        var weeks = new List<Answer>();
        for (var week = 1; week <= usual.Weeks; week++)
            weeks.Add(await EnquiryRunner.Run(rule.Enquiry, null, new Window(hours.From - week * SeasonalBaseline.Week, hours.To - week * SeasonalBaseline.Week), reader, History, stop, rule.Every));
        return new SeasonalBaseline(weeks, usual, SeasonalBaseline.Counts(rule.Enquiry));
    }
}
