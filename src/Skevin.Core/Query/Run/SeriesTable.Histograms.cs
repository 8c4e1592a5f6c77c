using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>Steps over histograms.</summary>
internal sealed partial record SeriesTable
{
    private SeriesTable OfHistograms(int number, Step step, List<Note> notes) => step switch
    {
        RiseStep rise when Rows.Count == 0 || Raw => RiseOfHistograms(number, rise, notes),
        RiseStep rise => throw new EnquiryException(new(rise.At.Line, rise.At.Column, Word(rise), $"'{Word(rise)}' takes a histogram as it is sent, but this is what was added in each slot already.", $"Leave out '{Word(rise)}'.")),
        AggregateStep aggregate => AcrossHistograms(number, aggregate, notes),
        _ => throw new InvalidOperationException("No step over histograms."),
    };

    private SeriesTable RiseOfHistograms(int number, RiseStep step, List<Note> notes)
    {
        var seconds = Slots.Width / 1000.0;
        var rows = new List<TableRow>(Rows.Count);
        foreach (var row in Rows)
        {
            var slots = Risen(row, out var gaps);
            notes.AddRange(gaps.Select(gap => GapOf(number, row.Labels, gap)));
            rows.Add(new TableRow(row.Labels, [], null, Buckets: step.PerSecond ? [.. slots.Select(histogram => histogram?.Times(1 / seconds))] : slots));
        }
        return this with { Rows = rows };
    }

    // sum gives a histogram again; quantiles, mean and count a gauge. Series of a group are added up first: a quantile of quantiles says nothing.
    private SeriesTable AcrossHistograms(int number, AggregateStep step, List<Note> notes)
    {
        var word = step.Function.ToString();
        if (step.Function.Kind is not (FunctionKind.Sum or FunctionKind.Mean or FunctionKind.Count or FunctionKind.Quantile) || step.Field is not null)
            throw new EnquiryException(new(step.At.Line, step.At.Column, word, $"'{word}{(step.Field is { } field ? " " + field : "")}' takes {(step.Field is null ? "gauges" : "a field of rows")}, but {Metric} is a histogram.", "p95"));
        if (Raw && Rows.Count > 0)
            throw new EnquiryException(new(step.At.Line, step.At.Column, word, $"'{word}' takes what was added in each slot, but {Metric} is a histogram since its sender began.", $"rise -> {word}"));
        var apart = false;
        var groups = new Dictionary<Labels, Histogram?[]>();
        foreach (var row in Rows)
        {
            var key = Group(row.Labels, step.Grouping);
            if (!groups.TryGetValue(key, out var sum))
                groups[key] = sum = new Histogram?[Slots.Count];
            for (var i = 0; i < sum.Length; i++)
                if (row.Buckets![i] is { } own)
                {
                    var together = sum[i] is { } there ? Histogram.Together(there, own) : own;
                    apart |= together is null;
                    sum[i] = together ?? sum[i];
                }
        }
        if (apart)
            notes.Add(new Note(number, "two kinds", $"Some senders of {Metric} have given bounds, some exponential buckets, which cannot be added up: one kind was left out.", "A where step that keeps one of them."));
        var ordered = groups.OrderBy(group => group.Key.ToString(), StringComparer.Ordinal);
        if (step.Function.Kind == FunctionKind.Sum)
            return this with { Rows = [.. ordered.Select(group => new TableRow(group.Key, [], null, Buckets: group.Value))] };
        double Told(Histogram? histogram) => histogram is null ? double.NaN : step.Function.Kind switch
        {
            FunctionKind.Count => histogram.Count,
            FunctionKind.Mean => histogram.Mean,
            _ => histogram.ValueBelow(step.Function.Quantile / 100),
        };
        return this with
        {
            Kind = SeriesKind.Gauge,
            Unit = step.Function.Kind == FunctionKind.Count ? "1" : Unit,
            Rows = [.. ordered.Select(group => new TableRow(group.Key, [], [.. group.Value.Select(Told)]))],
        };
    }

    private Histogram?[] Risen(TableRow row, out List<CounterGap> gaps)
    {
        gaps = [];
        if (row.Buckets is { } done)
            return done;
        var slots = new Histogram?[Slots.Count];
        var samples = row.Counted ?? [];
        gaps = HistogramRise.IntoSlots(samples, Slots.Start, Slots.Width, slots, CollectionInterval.Of([.. samples.Select(sample => new Sample(sample.Time, 0))]));
        return slots;
    }

    private EnquiryException NoHistogram(Step step) => new(new(step.At.Line, step.At.Column, Word(step), $"'{Word(step)}' takes gauges, but {Metric} is a histogram.", Raw ? $"rise -> p95 -> {Word(step)}" : $"p95 -> {Word(step)}"));

    private static string Word(Step step) => Formatter.Write(step).Split(' ')[0];
}
