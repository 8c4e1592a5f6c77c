using Skevin.Core.Query.Language;

namespace Skevin.Core.Query.Run;

/// <summary>The grid an answer lies on: ends are multiples of the width since the Unix epoch.</summary>
/// <param name="Width">Milliseconds.</param>
/// <param name="FirstEnd">End of the first slot, epoch milliseconds.</param>
/// <param name="Count">How many slots.</param>
public readonly record struct Slots(long Width, long FirstEnd, int Count)
{
    /// <summary>Most points a series gets where the enquiry names no width.</summary>
    public const int MostPoints = 800;

    private static readonly long[] Widths =
    [
        1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400,
    ];

    /// <summary>Start of the first slot (excluded).</summary>
    public long Start => FirstEnd - Width;

    /// <summary>End of the last slot.</summary>
    public long End => FirstEnd + Width * (Count - 1);

    /// <summary>The slots whose ends lie in (from, to].</summary>
    public static Slots Over(Window window, long width)
    {
        var first = (window.From / width + 1) * width;
        var last = window.To / width * width;
        return new Slots(width, first, last < first ? 0 : (int)((last - first) / width) + 1);
    }

    /// <summary>The first width that is not finer than the data and gives at most 800 points.</summary>
    /// <param name="window">The window.</param>
    /// <param name="interval">Collection interval of the data in milliseconds.</param>
    public static long WidthFor(Window window, double interval)
    {
        foreach (var seconds in Widths)
        {
            var width = seconds * 1000;
            if (width >= interval && (window.To - window.From) / width <= MostPoints)
                return width;
        }
        return Widths[^1] * 1000;
    }

    /// <summary>The width an enquiry names, or null. Two different ones are an error.</summary>
    /// <exception cref="EnquiryException">Two steps name different widths.</exception>
    public static TimeSpan? WidthOf(Enquiry enquiry)
    {
        TimeSpan? found = null;
        foreach (var step in enquiry.AllSteps)
        {
            var every = step switch
            {
                RiseStep rise => rise.Every,
                ChangeStep change => change.Every,
                AggregateStep aggregate => aggregate.Every,
                _ => null,
            };
            if (every is null)
                continue;
            if (found is { } width && width != every)
                throw new EnquiryException(new(step.At.Line, step.At.Column, "every",
                    $"One step says every {Units.Write(width)}, this one every {Units.Write(every.Value)}. An enquiry has one width.",
                    $"every {Units.Write(width)}"));
            found = every;
        }
        return found;
    }
}
