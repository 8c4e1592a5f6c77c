using Skevin.Core.Query.Check;
using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>How much one enquiry may read and return.</summary>
/// <param name="Samples">Samples read.</param>
/// <param name="Series">Series returned.</param>
/// <param name="Rows">Rows looked at.</param>
/// <param name="KeptRows">Rows returned.</param>
/// <param name="Slots">Slots of a series.</param>
public sealed record Limits(long Samples = 40_000_000, int Series = 1000, long Rows = 20_000_000, int KeptRows = 100_000, int Slots = 20_000);

/// <summary>Where an enquiry reads. Both are bound to one reader's access scope.</summary>
public sealed record EnquiryReader(ISeriesReader Series, IRowReader Rows);

/// <summary>Answers an enquiry: reads the source of each body, then takes one step after the other.</summary>
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
    /// <param name="choices">Conditions that were chosen beside the scope: each a step of its own, left out where no series of a metric has its field.</param>
    /// <exception cref="EnquiryException">The text asks for something that does not fit, with position and suggestion.</exception>
    /// <exception cref="LimitException">More than the limits allow.</exception>
    public static async Task<Answer> Run(
        Enquiry enquiry, Predicate? scope, Window window, EnquiryReader reader, Limits limits, CancellationToken stop,
        TimeSpan? width = null, IReadOnlyList<FieldPredicate>? choices = null)
    {
        var (notes, account) = (new List<Note>(), new List<StepAccount>());
        var parts = enquiry.Parts.Select(part => new Preparation(part, scope, choices ?? [])).ToArray();
        var windows = Reach.OfWindow(enquiry, window);
        var named = Slots.WidthOf(enquiry) ?? width;
        var narrowest = 0L;
        if (parts.Zip(windows).FirstOrDefault(pair => pair.First.Part.Body.Source is MetricSource && pair.Second.From < reader.Series.SamplesFrom) is { First: not null })
            (named, narrowest) = Summaries.Widened(named, reader.Series.SamplesFrom, notes);
        // The width is common to all parts, and the data of metrics has a say in it: so all are found first.
        var begins = 0;
        // Every slot is read whole and may look at the one before it; the width is not known before the samples are.
        var least = (long)(named?.TotalMilliseconds ?? Slots.WidthFor(window, narrowest));
        var margin = 2 * least;
        foreach (var (part, reach) in parts.Zip(windows))
        {
            if (part.Part.Body.Source is MetricSource metric)
                await part.Find(metric, reach with { From = reach.From - margin }, least, reader.Series, limits, begins, notes, stop);
            begins += 1 + part.Steps.Count;
        }
        var slotWidth = named is { } chosen ? (long)chosen.TotalMilliseconds
            : parts.Where(part => part.Part.Body.Source is not FormulaSource).Select(part => Slots.WidthFor(window, Math.Max(narrowest, part.Interval))).DefaultIfEmpty(60_000).Max();
        foreach (var part in parts)
            await part.ReadFor(slotWidth, reader.Series, limits, stop);
        var slots = Slots.Over(window, slotWidth);
        var reaches = Reach.OfSlots(enquiry, slots);
        if (reaches.Append(slots).Max(reach => reach.Count) is var most && most > limits.Slots)
            throw new LimitException("every", $"{most:N0} points a series are more than {limits.Slots:N0}. Choose a greater width, a shorter window or a shorter stretch.");

        var tables = new Dictionary<string, SeriesTable>();
        SeriesTable? series = null;
        RowTable? rows = null;
        foreach (var (part, reach, own) in parts.Zip(reaches, windows))
        {
            stop.ThrowIfCancellationRequested();
            var first = account.Count;
            (series, rows) = part.Part.Body.Source switch
            {
                MetricSource => (part.Series(reach, account, notes), null),
                RowSource source => await new RowBody(source, part.Steps, reader.Rows, own, limits, first, account, notes).Run(reach, stop),
                FormulaSource formula => (Computed(formula, part, tables, reach, account, notes), null),
                _ => throw new InvalidOperationException("Unknown source."),
            };
            if (part.Part.Name is { } name)
            {
                account[first] = account[first] with { Text = $"{name}: {account[first].Text}" };
                if (series is not null)
                    tables[name] = series;
            }
        }
        if (rows is not null)
            return new Answer("", TimeSpan.FromMilliseconds(slotWidth), slots.FirstEnd, [], account, notes, rows.Finish());
        var answer = series!.On(slots).Finish(account.Count - 1, notes);
        if (answer.Count > limits.Series)
        {
            notes.Add(new Note(account.Count - 1, "cut", $"Cut to {limits.Series} of {answer.Count} series.", "highest 10"));
            answer = [.. answer.Take(limits.Series)];
        }
        return new Answer(series.Unit, TimeSpan.FromMilliseconds(slotWidth), slots.FirstEnd, answer, account, notes);
    }

    private static SeriesTable Computed(FormulaSource formula, Preparation part, Dictionary<string, SeriesTable> tables, Slots slots, List<StepAccount> account, List<Note> notes)
    {
        var table = FormulaTable.Of(formula, tables, slots, account.Count, notes);
        account.Add(new StepAccount(Formatter.Write(formula), table.Rows.Count));
        foreach (var (step, _) in part.Steps)
        {
            table = table.Take(account.Count, step, notes);
            account.Add(new StepAccount(Formatter.Write(step), table.Rows.Count));
        }
        return table;
    }

    /// <summary>A body on its way: for metrics, the series and samples it found.</summary>
    private sealed class Preparation
    {
        private readonly IReadOnlyList<FieldPredicate> _chosen = [];
        private readonly List<StepAccount> _found = [];
        private IReadOnlyList<StoredSeries> _series = [];
        private IReadOnlyList<Sample[]> _samples = [];
        private IReadOnlyList<SummaryRun>? _summaries;
        private IReadOnlyList<HistogramSample[]>? _histograms;
        private Window _window;
        private long _width;
        private int _at;

        public Preparation(Part part, Predicate? scope, IReadOnlyList<FieldPredicate> chosen)
        {
            Part = part;
            Steps = [.. part.Body.Steps.Select(step => (step, false))];
            // A formula's parts are scoped already.
            if (part.Body.Source is FormulaSource)
                return;
            Steps.InsertRange(0, (scope is null ? [] : new[] { scope }).Concat(chosen).Select(condition => ((Step)new WhereStep(condition, default), true)));
            _chosen = chosen;
            Interval = part.Body.Source is RowSource rows ? RowBody.Interval(rows.Kind) : CollectionInterval.Assumed;
        }

        public Part Part { get; }

        public List<(Step Step, bool Scope)> Steps { get; }

        public double Interval { get; private set; }

        public async Task Find(MetricSource source, Window window, long width, ISeriesReader reader, Limits limits, int firstStep, List<Note> notes, CancellationToken stop)
        {
            var found = await reader.Find(source.Name, window.From - LookBack, window.To, stop);
            if (found.Count == 0)
                NoSeries(source, reader, firstStep, notes);
            if (found.Count > 0 && found.Any(series => series.Key.Kind != found[0].Key.Kind))
                found = MixedKinds(found, firstStep, notes);
            _found.Add(new StepAccount(Formatter.Write(source), found.Count));
            // Conditions directly behind the source only look at labels: they are taken before anything is read.
            for (; _at < Steps.Count && Steps[_at].Step is WhereStep where; _at++)
            {
                if (where.Predicate is FieldPredicate one && found.Count > 0 && _chosen.Contains(one, ReferenceEqualityComparer.Instance) && !found.Any(series => FieldNames.Value(series.Key.Labels, one.Field) is not null))
                {
                    notes.Add(new Note(firstStep, "not chosen by", $"{source.Name} has no {one.Field}: what was chosen of it does not apply here."));
                    Steps.RemoveAt(_at--);
                    continue;
                }
                var test = Matching.OfLabels(where.Predicate);
                var kept = (found is SeriesList list ? list.Narrowed(where.Predicate) : found).Where(series => test(series.Key.Labels)).ToArray();
                if (kept.Length == 0 && found.Count > 0)
                    notes.AddRange(NothingLeft.Explain(firstStep + _at + 1, where.Predicate, [.. found.Select(series => series.Key.Labels)]));
                found = kept;
                _found.Add(new StepAccount(Formatter.Write(where), kept.Length, Steps[_at].Scope));
            }
            _series = found;
            // What came after the window too, because the rise to the next sample belongs in part to the last slot.
            _window = new Window(window.From - LookBack, window.To + LookBack);
            await Read(Summaries.WidthFor(width, Steps.Skip(_at).Select(step => step.Step), window.From < reader.SamplesFrom), reader, limits, stop);
            Interval = IntervalOf();
            if (found.Select(series => series.Key.Unit).Distinct().Count() > 1)
                notes.Add(new Note(firstStep, "unit assumed", $"Senders disagree about the unit of {source.Name}; {(found[0].Key.Unit.Length == 0 ? "none" : found[0].Key.Unit)} is assumed."));
        }

        /// <summary>Reads anew where the width that was chosen is no whole number of the summaries that were read.</summary>
        public Task ReadFor(long slotWidth, ISeriesReader reader, Limits limits, CancellationToken stop) =>
            _summaries is null || slotWidth % _width == 0 ? Task.CompletedTask
                : Read(Summaries.WidthFor(slotWidth, Steps.Skip(_at).Select(step => step.Step), _window.From + LookBack < reader.SamplesFrom), reader, limits, stop);

        private async Task Read(long width, ISeriesReader reader, Limits limits, CancellationToken stop)
        {
            if (_series.Count > 0 && _series[0].Key.Kind == SeriesKind.Histogram)
            {
                _histograms = await reader.ReadHistograms(_series, _window.From, _window.To, stop);
                if (_histograms.Sum(run => (long)run.Length) > limits.Samples / 10)
                    throw new LimitException(_found[^1].Text, $"More than {limits.Samples / 10:N0} histograms would be read. Narrow this step or the window.");
                return;
            }
            _width = width;
            _summaries = width > 0 ? await reader.ReadSummaries(_series, _window.From, _window.To, width, stop) : null;
            _samples = width > 0 ? [] : await reader.Read(_series, _window.From, _window.To, stop);
            if (_samples.Sum(run => (long)run.Length) + (_summaries?.Sum(run => (long)run.Summaries.Count) ?? 0) > limits.Samples)
                throw new LimitException(_found[^1].Text, $"More than {limits.Samples:N0} samples would be read. Narrow this step or the window.");
        }

        private double IntervalOf()
        {
            var intervals = (_histograms?.Where(run => run.Length >= 3).Select(run => CollectionInterval.Of([.. run.Select(sample => new Sample(sample.Time, 0))])) ?? (_summaries is { } runs
                ? runs.Where(run => run.Summaries.Count > 1 && !double.IsNaN(run.Interval)).Select(run => run.Interval)
                : _samples.Where(run => run.Length >= 3).Select(run => CollectionInterval.Of(run)))).Order().ToArray();
            return intervals.Length == 0 ? CollectionInterval.Assumed : intervals[intervals.Length / 2];
        }

        public SeriesTable Series(Slots slots, List<StepAccount> account, List<Note> notes)
        {
            var first = account.Count;
            account.AddRange(_found);
            var (kind, unit) = _series.Count > 0 ? (_series[0].Key.Kind, _series[0].Key.Unit) : (SeriesKind.Gauge, "");
            var table = new SeriesTable(kind, unit, slots, ((MetricSource)Part.Body.Source).Name, [.. _series.Select((series, i) => _histograms is { } counted ? new TableRow(series.Key.Labels, [], null, Counted: counted[i]) : _summaries is { } runs ? new TableRow(series.Key.Labels, [], null, runs[i]) : new TableRow(series.Key.Labels, _samples[i], null))]);
            for (var at = _at; at < Steps.Count; at++)
            {
                table = table.Take(first + at + 1, Steps[at].Step, notes);
                account.Add(new StepAccount(Formatter.Write(Steps[at].Step), table.Rows.Count));
            }
            return table;
        }
    }

    private static void NoSeries(MetricSource source, ISeriesReader reader, int step, List<Note> notes)
    {
        var metrics = reader.Metrics().ToArray();
        if (metrics.Contains(source.Name))
        {
            notes.Add(new Note(step, "nothing left", $"{source.Name} has no samples in this window.", "A wider window, or see Arrivals."));
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

    private static IReadOnlyList<StoredSeries> MixedKinds(IReadOnlyList<StoredSeries> found, int step, List<Note> notes)
    {
        var most = found.GroupBy(series => series.Key.Kind).MaxBy(group => group.Count())!;
        notes.Add(new Note(step, "two kinds", $"Some senders give {found[0].Key.Metric} as a counter, some as a gauge; the {most.Count()} that are a {most.Key.ToString().ToLowerInvariant()} are asked."));
        return [.. most];
    }
}
