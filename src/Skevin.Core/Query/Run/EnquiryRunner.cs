using Skevin.Core.Query.Check;
using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>How much one enquiry may read and return.</summary>
public sealed record Limits(long Samples = 40_000_000, int Series = 1000);

/// <summary>Answers an enquiry: reads the series of its source, then takes one step after the other.</summary>
public static class EnquiryRunner
{
    // A counter's slot may need the sample before the window; a gap is only seen from its near edge.
    private const long LookBack = 10 * 60_000;

    /// <summary>Runs an enquiry.</summary>
    /// <param name="enquiry">The tree.</param>
    /// <param name="scope">A condition the page's scope adds as a step of its own, or null.</param>
    /// <param name="window">The window.</param>
    /// <param name="reader">Bound to the reader's access scope.</param>
    /// <param name="limits">Caps.</param>
    /// <param name="stop">Cancels.</param>
    /// <param name="width">Width of a slot where the enquiry names none; null for a fitting one.</param>
    /// <exception cref="EnquiryException">The text asks for something that does not fit, with position and suggestion.</exception>
    /// <exception cref="LimitException">More than the limits allow.</exception>
    public static async Task<Answer> Run(
        Enquiry enquiry, Predicate? scope, Window window, ISeriesReader reader, Limits limits, CancellationToken stop,
        TimeSpan? width = null)
    {
        var notes = new List<Note>();
        var account = new List<StepAccount>();
        var named = Slots.WidthOf(enquiry) ?? width;
        var source = enquiry.Source.Name;
        var found = reader.Find(source, window.From - LookBack, window.To);
        if (found.Count == 0)
            NoSeries(enquiry, reader, notes);
        if (found.Select(series => series.Key.Kind).Distinct().Count() > 1)
            found = MixedKinds(found, notes);
        account.Add(new StepAccount(Formatter.Source(source), found.Count));

        // Conditions directly behind the source only look at labels: they are taken before anything is read.
        var steps = enquiry.Steps.Select(step => (step, scope: false)).ToList();
        if (scope is not null)
            steps.Insert(0, (new WhereStep(scope, default), true));
        var at = 0;
        for (; at < steps.Count && steps[at].step is WhereStep where; at++)
        {
            var test = Matching.Compile(where.Predicate);
            var kept = found.Where(series => test(series.Key.Labels)).ToArray();
            if (kept.Length == 0 && found.Count > 0)
                notes.AddRange(NothingLeft.Explain(at + 1, where.Predicate, [.. found.Select(series => series.Key.Labels)]));
            found = kept;
            account.Add(new StepAccount(Formatter.Write(where), kept.Length, steps[at].scope));
        }

        // One more slot before the window, because every slot is read whole; and what came after it, because the rise to the next
        // sample belongs in part to the last slot.
        var reach = LookBack + (long)(named?.TotalMilliseconds ?? 0);
        var samples = await reader.Read(found, window.From - reach, window.To + LookBack, stop);
        if (samples.Sum(run => (long)run.Length) > limits.Samples)
            throw new LimitException(account[^1].Text, $"More than {limits.Samples:N0} samples would be read. Narrow this step or the window.");
        var interval = Interval(samples);
        var slotWidth = named is { } chosen ? (long)chosen.TotalMilliseconds : Slots.WidthFor(window, interval);
        var slots = Slots.Over(window, slotWidth);
        if (slots.Count > 20_000)
            throw new LimitException("every", $"{slots.Count:N0} points a series are more than 20,000. Choose a greater width or a shorter window.");

        var kind = found.Count > 0 ? found[0].Key.Kind : SeriesKind.Gauge;
        var unit = found.Count > 0 ? found[0].Key.Unit : "";
        if (found.Select(series => series.Key.Unit).Distinct().Count() > 1)
            notes.Add(new Note(0, "unit assumed", $"Senders disagree about the unit of {source}; {(unit.Length == 0 ? "none" : unit)} is assumed."));
        var table = new SeriesTable(kind, unit, slots, source,
            [.. found.Select((series, i) => new TableRow(series.Key.Labels, samples[i], null))]);
        for (; at < steps.Count; at++)
        {
            stop.ThrowIfCancellationRequested();
            table = table.Take(at + 1, steps[at].step, notes);
            account.Add(new StepAccount(Formatter.Write(steps[at].step), table.Rows.Count));
        }
        var answer = table.Finish(steps.Count, notes);
        if (answer.Count > limits.Series)
        {
            notes.Add(new Note(steps.Count, "cut", $"Cut to {limits.Series} of {answer.Count} series.", "highest 10"));
            answer = [.. answer.Take(limits.Series)];
        }
        return new Answer(table.Unit, TimeSpan.FromMilliseconds(slotWidth), slots.FirstEnd, answer, account, notes);
    }

    private static double Interval(IReadOnlyList<Sample[]> samples)
    {
        var intervals = samples.Where(run => run.Length >= 3).Select(run => CollectionInterval.Of(run)).Order().ToArray();
        return intervals.Length == 0 ? CollectionInterval.Assumed : intervals[intervals.Length / 2];
    }

    private static void NoSeries(Enquiry enquiry, ISeriesReader reader, List<Note> notes)
    {
        var source = enquiry.Source;
        var metrics = reader.Metrics().ToArray();
        if (metrics.Contains(source.Name))
        {
            notes.Add(new Note(0, "nothing left", $"{source.Name} has no samples in this window.", "A wider window, or see Arrivals."));
            return;
        }
        var near = EditDistance.Nearest(source.Name, metrics, 3).ToArray();
        throw new EnquiryException(new(Math.Max(1, source.At.Line), Math.Max(1, source.At.Column), source.Name,
            metrics.Length == 0
                ? "Nothing has arrived yet, so there is no metric to ask."
                : $"There is no metric '{source.Name}' that you may see."
                    + (near.Length > 0 ? $" The nearest: {string.Join(", ", near)}." : ""),
            near.FirstOrDefault()));
    }

    private static IReadOnlyList<StoredSeries> MixedKinds(IReadOnlyList<StoredSeries> found, List<Note> notes)
    {
        var most = found.GroupBy(series => series.Key.Kind).MaxBy(group => group.Count())!;
        notes.Add(new Note(0, "two kinds", $"Some senders give {found[0].Key.Metric} as a counter, some as a gauge; the {most.Count()} that are a {most.Key.ToString().ToLowerInvariant()} are asked."));
        return [.. most];
    }
}
