using Skevin.Core.Query.Language;

namespace Skevin.Core.Query.Run;

/// <summary>Which stretch of time each part must cover so that the answered one covers its own: <c>over</c> looks back, <c>shift</c> reads earlier.</summary>
internal static class Reach
{
    /// <summary>Slots the source of each part lies on.</summary>
    /// <param name="enquiry">The enquiry.</param>
    /// <param name="answered">Slots of the answer.</param>
    /// <exception cref="EnquiryException">A shift that is not a whole number of slots.</exception>
    public static Slots[] OfSlots(Enquiry enquiry, Slots answered) =>
        [.. Of(enquiry, new Window(answered.Start, answered.End), answered.Width).Select(window => new Slots(answered.Width, window.From + answered.Width, (int)((window.To - window.From) / answered.Width)))];

    /// <summary>The window the source of each part is read over.</summary>
    public static Window[] OfWindow(Enquiry enquiry, Window answered) => Of(enquiry, answered, 1);

    private static Window[] Of(Enquiry enquiry, Window answered, long width)
    {
        var parts = enquiry.Parts;
        var demands = new Window?[parts.Count];
        var sources = new Window[parts.Count];
        for (var i = parts.Count - 1; i >= 0; i--)
        {
            // A part nobody calls is computed as if it were answered.
            sources[i] = parts[i].Body.Steps.Reverse().Aggregate(demands[i] ?? answered, (window, step) => Before(window, step, width));
            if (parts[i].Body.Source is not FormulaSource formula)
                continue;
            foreach (var name in Names(formula.Formula).Distinct())
            {
                var part = Enumerable.Range(0, i).First(j => parts[j].Name == name);
                demands[part] = demands[part] is { } before ? new Window(Math.Min(before.From, sources[i].From), Math.Max(before.To, sources[i].To)) : sources[i];
            }
        }
        return sources;
    }

    private static Window Before(Window window, Step step, long width)
    {
        switch (step)
        {
            case OverStep over:
                var stretch = (long)over.Stretch.TotalMilliseconds;
                return window with { From = window.From - (stretch + width - 1) / width * width };
            case ShiftStep shift:
                var by = (long)shift.By.TotalMilliseconds;
                if (by % width != 0)
                    throw new EnquiryException(new(shift.At.Line, shift.At.Column, "shift",
                        $"{Units.Write(shift.By)} is not a whole number of slots, which are {Units.Write(TimeSpan.FromMilliseconds(width))} wide here.",
                        $"shift {Units.Write(TimeSpan.FromMilliseconds(Math.Max(1, (by + width / 2) / width) * width))}"));
                return new Window(window.From - by, window.To - by);
            case ChangeStep:
                return window with { From = window.From - width };
            default:
                return window;
        }
    }

    private static IEnumerable<string> Names(Formula formula) => formula switch
    {
        NamedFormula named => [named.Name],
        JoinedFormula joined => Names(joined.Left).Concat(Names(joined.Right)),
        _ => [],
    };
}
