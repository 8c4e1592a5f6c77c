using Skevin.Core.Query.Check;
using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>A series on its way through the steps: raw samples or summaries of them first, values or histograms by slot after the first step that computes.</summary>
internal sealed record TableRow(Labels Labels, Sample[] Samples, double[]? Values, SummaryRun? Summary = null, HistogramSample[]? Counted = null, Histogram?[]? Buckets = null);

/// <summary>What flows from step to step.</summary>
internal sealed partial record SeriesTable(SeriesKind Kind, string Unit, Slots Slots, string Metric, IReadOnlyList<TableRow> Rows)
{
    private bool Raw => Rows.Count == 0 || Rows[0] is { Values: null, Buckets: null };

    /// <summary>Takes one step.</summary>
    public SeriesTable Take(int number, Step step, List<Note> notes) => step switch
    {
        WhereStep where => Where(number, where, notes),
        RiseStep or AggregateStep when Kind == SeriesKind.Histogram => OfHistograms(number, step, notes),
        RankStep or ChangeStep or OverStep or GapsStep or UnitStep when Kind == SeriesKind.Histogram && Rows.Count > 0 => throw NoHistogram(step),
        RiseStep rise => Rise(number, rise, notes),
        AggregateStep aggregate => Aggregated(aggregate, notes, number),
        RankStep rank => Ranked(rank),
        ChangeStep change => Changed(change),
        OverStep over => Trailing(over),
        GapsStep gaps => Filled(gaps),
        ShiftStep shift => Moved((long)shift.By.TotalMilliseconds),
        UnitStep unit => InUnit(unit),
        ShowStep or OrderStep or FirstStep or TracesStep or GraphStep or ParseStep or SetStep or KindsStep or DifferStep => throw OfRows(step),
        _ => throw new InvalidOperationException("A step that cannot be taken: " + step.GetType().Name),
    };

    /// <summary>The values of every series by slot.</summary>
    public IReadOnlyList<AnswerSeries> Finish(int lastStep, List<Note> notes)
    {
        if (Kind == SeriesKind.Counter && Rows.Count > 0)
            notes.Add(new Note(lastStep, "never falls", $"{Metric} is a counter: it only ever rises. Its rate is usually what is meant.", "rate"));
        if (Kind == SeriesKind.Histogram && Rows.Count > 0)
            notes.Add(new Note(lastStep, "histogram", $"{Metric} is a histogram: the mean of each slot is drawn. A quantile is usually meant.", Raw ? "rise -> p95" : "p95"));
        return [.. Rows.Select(row => new AnswerSeries(row.Labels, ValuesOf(row, FunctionKind.Mean)))];
    }

    private SeriesTable Where(int number, WhereStep where, List<Note> notes)
    {
        var test = Matching.OfLabels(where.Predicate);
        var kept = Rows.Where(row => test(row.Labels)).ToArray();
        if (kept.Length == 0 && Rows.Count > 0)
            notes.AddRange(NothingLeft.Explain(number, where.Predicate, [.. Rows.Select(row => row.Labels)]));
        return this with { Rows = kept };
    }

    private SeriesTable Rise(int number, RiseStep step, List<Note> notes)
    {
        if (Rows.Count > 0 && (Kind != SeriesKind.Counter || !Raw))
        {
            var word = step.PerSecond ? "rate" : "rise";
            throw new EnquiryException(new(step.At.Line, step.At.Column, word,
                $"'{word}' takes a counter, but this is a gauge{(Raw ? "" : " already")}.", Raw ? "mean" : $"Leave out '{word}'."));
        }
        var seconds = Slots.Width / 1000.0;
        var rows = new List<TableRow>(Rows.Count);
        foreach (var row in Rows)
        {
            var values = new double[Slots.Count];
            var gaps = row.Summary is { } run
                ? CounterRise.IntoSlots(run, Slots.Start, Slots.Width, values)
                : CounterRise.IntoSlots(row.Samples, Slots.Start, Slots.Width, values, CollectionInterval.Of(row.Samples));
            notes.AddRange(gaps.Select(gap => GapOf(number, row.Labels, gap)));
            if (step.PerSecond)
                for (var i = 0; i < values.Length; i++)
                    values[i] /= seconds;
            rows.Add(new TableRow(row.Labels, [], values));
        }
        var unit = !step.PerSecond ? Unit
            : Metric.EndsWith(".cpu.time", StringComparison.Ordinal) && Unit == "s" ? "{core}"
            : (Unit is "" or "1" ? "1" : Unit) + "/s";
        return this with { Kind = SeriesKind.Gauge, Unit = unit, Rows = rows };
    }

    private static Note GapOf(int step, Labels labels, CounterGap gap) => new(step, "gap",
        $"Nothing was received for {Units.Write(TimeSpan.FromSeconds(Math.Round((gap.To - gap.From) / 1000.0)))}.",
        null, new GapDetail(labels, gap.From, gap.To, gap.Rise));

    private static EnquiryException OfRows(Step step)
    {
        var word = Formatter.Write(step).Split(' ')[0];
        return new EnquiryException(new(step.At.Line, step.At.Column, word, $"'{word}' takes rows, but these are series.", word == "first" ? "highest 5" : $"Leave out '{word}', or take it before the step that counts."));
    }

    private SeriesTable InUnit(UnitStep step)
    {
        var (factor, unit) = step.Unit == "percent" ? (0.01, "1") : Units.Suffixes.TryGetValue(step.Unit, out var known) ? known : (1, step.Unit);
        if (step.Unit == "percent" && Unit is not ("" or "1") || step.Unit != "percent" && Units.Suffixes.ContainsKey(step.Unit) && unit != Unit && Unit is not ("" or "1"))
            throw new EnquiryException(new(step.At.Line, step.At.Column, step.Unit, $"The values are in {Unit}, which cannot be given as {step.Unit}.", null));
        // Seconds and bytes keep their base unit: the axis chooses the prefix.
        return step.Unit == "percent"
            ? this with { Unit = "%", Rows = [.. Rows.Select(row => new TableRow(row.Labels, [], [.. ValuesOf(row, FunctionKind.Mean).Select(value => value / factor)]))] }
            : this with { Unit = unit, Rows = unit == Unit ? Rows : [.. Rows.Select(row => new TableRow(row.Labels, [], [.. ValuesOf(row, FunctionKind.Mean).Select(value => value * factor)]))] };
    }

    private SeriesTable Aggregated(AggregateStep step, List<Note> notes, int number)
    {
        if (step.Field is not null)
            throw new EnquiryException(new(step.At.Line, step.At.Column, step.Field, $"'{step.Function} {step.Field}' takes a field of rows, but these are series.", step.Function.ToString()));
        if (step.Function.Kind is FunctionKind.Distinct or FunctionKind.First or FunctionKind.Last)
            throw new EnquiryException(new(step.At.Line, step.At.Column, step.Function.ToString(), $"'{step.Function}' takes a field of rows, but these are series.", step.Function.Kind == FunctionKind.Distinct ? "count" : $"over 5m {step.Function}"));
        NoCounter(step.At, step.Function.ToString(), $"rate -> {step.Function}");
        var groups = new Dictionary<Labels, List<double[]>>();
        foreach (var row in Rows)
        {
            var key = Group(row.Labels, step.Grouping);
            if (!groups.TryGetValue(key, out var members))
                groups[key] = members = [];
            members.Add(ValuesOf(row, step.Function.Kind));
        }
        var rows = groups.Select(group => new TableRow(group.Key, [], Across(group.Value, step.Function)))
            .OrderBy(row => row.Labels.ToString(), StringComparer.Ordinal).ToArray();
        return this with { Kind = SeriesKind.Gauge, Unit = step.Function.Kind == FunctionKind.Count ? "1" : Unit, Rows = rows };
    }

    private SeriesTable Ranked(RankStep step)
    {
        var scored = Rows
            .Select(row => row with { Values = ValuesOf(row, FunctionKind.Mean), Samples = [], Summary = null })
            .Select(row => (row, score: Folding.Fold(row.Values!, step.By)))
            .Where(pair => !double.IsNaN(pair.score));
        var ordered = step.Highest ? scored.OrderByDescending(pair => pair.score) : scored.OrderBy(pair => pair.score);
        return this with { Rows = [.. ordered.Take(step.Count).Select(pair => pair.row)] };
    }

    private static Labels Group(Labels labels, Grouping? grouping)
    {
        if (grouping is null)
            return Labels.None;
        if (!grouping.Except)
            return Labels.From(grouping.Fields
                .Select(field => new KeyValuePair<string, string>(field, FieldNames.Value(labels, field) ?? "")));
        var dropped = grouping.Fields
            .SelectMany(field => field == "workload" ? FieldNames.Workload : [FieldNames.Short.GetValueOrDefault(field, field)])
            .Concat(grouping.Fields).ToHashSet();
        return Labels.From(labels.Where(pair => !dropped.Contains(pair.Key)));
    }

    // A gauge's value in a slot is the mean of its samples; under min and max their least and greatest; a counter's its last.
    internal double[] ValuesOf(TableRow row, FunctionKind function)
    {
        if (row.Values is { } done)
            return done;
        if (Kind == SeriesKind.Histogram)
            return [.. Risen(row, out _).Select(histogram => histogram?.Mean ?? double.NaN)];
        var values = new double[Slots.Count];
        var counts = new int[Slots.Count];
        Array.Fill(values, double.NaN);
        if (row.Summary is { } run)
            foreach (var one in run.Summaries)
                Put(one.Last.Time, one.Count, Kind == SeriesKind.Counter ? one.Last.Value : function switch { FunctionKind.Min => one.Min, FunctionKind.Max => one.Max, _ => one.Sum });
        else
            foreach (var sample in row.Samples)
                Put(sample.Time, 1, sample.Value);
        if (Kind == SeriesKind.Gauge && function is not (FunctionKind.Min or FunctionKind.Max))
            for (var i = 0; i < values.Length; i++)
                values[i] /= counts[i];
        if (Kind == SeriesKind.Gauge)
            Hold(row, values);
        return values;

        void Put(long time, int count, double value)
        {
            if (time <= Slots.Start || time > Slots.End || double.IsNaN(value))
                return;
            var slot = (int)((time - Slots.Start - 1) / Slots.Width);
            values[slot] = counts[slot] == 0 || Kind == SeriesKind.Counter ? value : function switch
            {
                FunctionKind.Min => Math.Min(values[slot], value),
                FunctionKind.Max => Math.Max(values[slot], value),
                _ => values[slot] + value,
            };
            counts[slot] += count;
        }
    }

    // Slots narrower than the collection interval hold the value before them, until 2.5 intervals have passed.
    private void Hold(TableRow row, double[] values)
    {
        var interval = row.Summary?.Interval ?? CollectionInterval.Of(row.Samples);
        if (Slots.Width >= interval || (row.Summary?.Summaries.Count ?? row.Samples.Length) < 3)
            return;
        var samples = row.Summary is null ? row.Samples : [.. Lasts(row.Summary)];
        var at = 0;
        for (var i = 0; i < values.Length; i++)
        {
            var end = Slots.FirstEnd + i * Slots.Width;
            while (at < samples.Length && samples[at].Time <= end)
                at++;
            if (double.IsNaN(values[i]) && at > 0 && end - samples[at - 1].Time <= CounterRise.GapIntervals * interval)
                values[i] = samples[at - 1].Value;
        }
    }

    private double[] Across(List<double[]> members, Function function)
    {
        var values = new double[Slots.Count];
        for (var i = 0; i < values.Length; i++)
            values[i] = Folding.Fold(members.Select(member => member[i]), function);
        return values;
    }

    private SeriesTable Changed(ChangeStep step)
    {
        NoCounter(step.At, "change", "rise");
        return this with { Rows = [.. Rows.Select(row => new TableRow(row.Labels, [], Changes(Timed(row))))] };
    }

    // The last value in the slot minus the last before it; a value older than a gap allows says nothing of the slot.
    private double[] Changes(IReadOnlyList<Sample> samples)
    {
        var values = new double[Slots.Count];
        var reach = Math.Max(Slots.Width, CollectionInterval.Of([.. samples])) * CounterRise.GapIntervals;
        var at = 0;
        for (var slot = 0; slot < values.Length; slot++)
        {
            var end = Slots.FirstEnd + slot * Slots.Width;
            while (at < samples.Count && samples[at].Time <= end - Slots.Width)
                at++;
            var before = at - 1;
            while (at < samples.Count && samples[at].Time <= end)
                at++;
            values[slot] = at - 1 > before && before >= 0 && end - samples[before].Time <= Slots.Width + reach ? samples[at - 1].Value - samples[before].Value : double.NaN;
        }
        return values;
    }

    private SeriesTable Trailing(OverStep step)
    {
        NoCounter(step.At, "over", $"rate -> over {Units.Write(step.Stretch)} {step.Function}");
        if (step.Function.Kind == FunctionKind.Distinct)
            throw new EnquiryException(new(step.At.Line, step.At.Column, "distinct", "'distinct' takes a field of rows, but these are series.", "count"));
        var stretch = (long)step.Stretch.TotalMilliseconds;
        if (stretch < Slots.Width)
            throw new EnquiryException(new(step.At.Line, step.At.Column, "over", $"{Units.Write(step.Stretch)} is shorter than a slot, which is {Units.Write(TimeSpan.FromMilliseconds(Slots.Width))} here.", $"over {Units.Write(TimeSpan.FromMilliseconds(Slots.Width))} {step.Function}"));
        return this with
        {
            Unit = step.Function.Kind == FunctionKind.Count ? "1" : Unit,
            Rows = [.. Rows.Select(row => new TableRow(row.Labels, [], row.Summary is { } run ? Folding.Trailing(run, stretch, Slots, step.Function) : Folding.Trailing(Timed(row), stretch, Slots, step.Function)))],
        };
    }

    private SeriesTable Filled(GapsStep step)
    {
        NoCounter(step.At, "gaps", "rate");
        return this with
        {
            Rows = [.. Rows.Select(row =>
            {
                var values = ValuesOf(row, FunctionKind.Mean).ToArray();
                var before = step.Hold ? double.NaN : 0;
                for (var i = 0; i < values.Length; i++)
                    if (double.IsNaN(values[i]))
                        values[i] = before;
                    else if (step.Hold)
                        before = values[i];
                return new TableRow(row.Labels, [], values);
            })],
        };
    }

    private SeriesTable Moved(long by) => this with
    {
        Slots = Slots with { FirstEnd = Slots.FirstEnd + by },
        Rows = [.. Rows.Select(row => row with { Samples = [.. row.Samples.Select(sample => sample with { Time = sample.Time + by })], Summary = row.Summary?.Later(by), Counted = row.Counted is null ? null : [.. row.Counted.Select(sample => sample with { Time = sample.Time + by, Start = sample.Start == 0 ? 0 : sample.Start + by })] })],
    };

    /// <summary>The part of it that lies on other slots of the same width, which it covers.</summary>
    public SeriesTable On(Slots slots)
    {
        if (slots == Slots)
            return this;
        var from = (int)((slots.FirstEnd - Slots.FirstEnd) / Slots.Width);
        return this with { Slots = slots, Rows = [.. Rows.Select(row => row with { Values = row.Values?[from..(from + slots.Count)], Buckets = row.Buckets?[from..(from + slots.Count)] })] };
    }

    // Raw samples at their times, of summaries the last, computed values at the ends of their slots.
    private IReadOnlyList<Sample> Timed(TableRow row) => row.Values is { } values
        ? [.. values.Select((value, i) => new Sample(Slots.FirstEnd + i * Slots.Width, value)).Where(sample => !double.IsNaN(sample.Value))]
        : [.. (row.Summary is { } run ? Lasts(run) : row.Samples).Where(sample => !double.IsNaN(sample.Value))];

    private static IEnumerable<Sample> Lasts(SummaryRun run) => run.Summaries.Select(one => one.Last);

    private void NoCounter(Position at, string word, string meant)
    {
        if (Kind == SeriesKind.Counter && Raw && Rows.Count > 0)
            throw new EnquiryException(new(at.Line, at.Column, word, $"'{word}' takes gauges, but {Metric} is a counter.", meant));
    }
}
