using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>When a body is answered from summaries in place of samples.</summary>
internal static class Summaries
{
    /// <summary>The widest summaries that answer as the samples would; 0 where only the samples do.</summary>
    /// <param name="slotWidth">Milliseconds.</param>
    /// <param name="steps">Behind those that only look at labels.</param>
    /// <param name="only">Whether there is nothing but summaries.</param>
    /// <exception cref="EnquiryException">There is nothing but summaries, and they do not tell.</exception>
    public static long WidthFor(long slotWidth, IEnumerable<Step> steps, bool only)
    {
        var over = steps.SkipWhile(step => step is WhereStep or ShiftStep).FirstOrDefault() as OverStep;
        var fitting = over is not null && !Folding.BySummary(over.Function) ? 0
            : SummaryRun.Widths.LastOrDefault(width => slotWidth % width == 0 && (over is null || (long)over.Stretch.TotalMilliseconds % width == 0));
        if (fitting == 0 && only && over is not null)
            throw new EnquiryException(new(over.At.Line, over.At.Column, "over", $"Of a part of this window only summaries of {Name} are kept, which do not tell {over.Function} over {Units.Write(over.Stretch)}.", "over 5m mean, or a later window"));
        return fitting;
    }

    /// <summary>A width that summaries have, where one is named that they do not; with a note.</summary>
    /// <returns>The width to use, and the least where none is named.</returns>
    public static (TimeSpan? Named, long Narrowest) Widened(TimeSpan? named, long samplesFrom, List<Note> notes)
    {
        var least = SummaryRun.Widths[0];
        if (named is not { } width || (long)width.TotalMilliseconds % least == 0)
            return (named, least);
        var wider = TimeSpan.FromMilliseconds(SummaryRun.EndOf((long)width.TotalMilliseconds, least));
        notes.Add(new Note(0, "width changed", $"Before {DateTimeOffset.FromUnixTimeMilliseconds(samplesFrom):yyyy-MM-dd HH:mm} UTC only summaries of {Name} are kept, so slots are {Units.Write(wider)} wide in place of {Units.Write(width)}.", $"every {Units.Write(wider)}"));
        return (wider, least);
    }

    private static string Name => Units.Write(TimeSpan.FromMilliseconds(SummaryRun.Widths[0]));
}
