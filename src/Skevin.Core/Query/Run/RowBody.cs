using Skevin.Core.Query.Check;
using Skevin.Core.Query.Language;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;

namespace Skevin.Core.Query.Run;

/// <summary>Answers a body that begins with rows: conditions are taken while reading, then what counts or keeps them.</summary>
internal sealed class RowBody(RowSource source, IReadOnlyList<(Step Step, bool Scope)> steps, IRowReader reader, Window window, Limits limits, int firstStep, List<StepAccount> account, List<Note> notes)
{
    private const int MostLooked = 20_000;
    private const int MostTraces = 1000;
    private const long TraceReach = 5 * 60_000;

    /// <summary>Least width of a slot that is not finer than the data.</summary>
    public static double Interval(RowKind kind) => kind == RowKind.Flows ? 60_000 : 1000;

    /// <summary>Runs it.</summary>
    /// <returns>Series where a step counted, else rows.</returns>
    public async Task<(SeriesTable? Series, RowTable? Rows)> Run(Slots slots, CancellationToken stop)
    {
        var kind = source.Kind;
        var single = steps.TakeWhile(step => RowSteps.Fits(step.Step)).Select(step => step.Step).ToArray();
        var taken = new RowSteps(RowSchema.Of(kind), single);
        var next = single.Length < steps.Count ? steps[single.Length].Step : null;
        if (next is TracesStep or GraphStep && kind is not (RowKind.Spans or RowKind.Flows) || next is TracesStep && kind != RowKind.Spans)
            throw new EnquiryException(new(next.At.Line, next.At.Column, next is TracesStep ? "traces" : "graph", next is TracesStep ? "'traces' takes spans." : "'graph' takes spans or flows.", null));

        // Every slot is read whole, so counting begins where the first slot does.
        var (from, to) = next is AggregateStep ? (Math.Min(window.From, slots.Start), window.To) : (window.From, window.To);
        // Where no condition chose among the spans, those that are read are all there are of each trace.
        var gatherer = next is TracesStep && single.Length == 0 ? new GatheredTraces() : Gatherer(next, taken.Schema, slots);
        var kept = new List<IRow>();
        var all = next is GraphStep && kind == RowKind.Spans ? new List<Span>() : null;
        // What a step makes of a row is not what stands in its block.
        var conditions = single.TakeWhile(step => step is WhereStep).Select(step => ((WhereStep)step).Predicate).ToArray();
        var hints = all is null ? RowConditions.Hints(conditions) with { Counted = Counted(single, next, slots), Single = kind == RowKind.Flows && Singles() } : RowHints.None;
        // Sketches count exactly; their quantiles are near enough only where there are very many.
        if (kind == RowKind.Spans && Sketchable(single, next, slots) && (next is AggregateStep { Function.Kind: FunctionKind.Count } || await reader.Most(kind, from, to, stop) > Quantiles.MostExact))
            hints = RowHints.None with { Sketched = true };
        if (gatherer is GatheredTraces)
            hints = hints with { ByTrace = true };
        if (hints.Single && window.From < reader.SinglesFrom)
            notes.Add(new Note(firstStep, "single flows", $"Single flows, with the port they come from, are kept for an hour: here from {DateTimeOffset.FromUnixTimeMilliseconds(reader.SinglesFrom).UtcDateTime:HH:mm} UTC on. Without source.port, sums by minute reach further back."));
        // What a later condition lets a reader pass over was never seen by those before it.
        var choosing = Array.FindLastIndex(conditions, condition => RowConditions.Hints([condition]).Words.Count > 0);
        var (read, passed) = (0L, false);
        await foreach (var batch in reader.Rows(kind, from, to, hints, stop).Ahead(stop))
        {
            read += batch.Passed;
            passed |= batch.Passed > 0;
            foreach (var row in batch.Rows)
            {
                if ((read += row.Rows) > limits.Rows && row.Rows == 1)
                    throw new LimitException(Formatter.Write(source), $"More than {limits.Rows:N0} rows would be read. Shorten the window.");
                all?.Add(Span.Of(row));
                if (taken.Take(row) is not { } left)
                    continue;
                if (gatherer is not null)
                    gatherer.Add(left);
                else
                    Keep(kept, left, next is null or ShowStep or FirstStep && !steps.Any(step => step.Step is OrderStep));
            }
            stop.ThrowIfCancellationRequested();
        }
        account.Add(new StepAccount(Formatter.Write(source), read));
        for (var i = 0; i < single.Length; i++)
            account.Add(new StepAccount(Formatter.Write(single[i]), taken.Left[i], steps[i].Scope, passed && i < choosing));
        notes.AddRange(taken.Notes(firstStep + 1));
        if (read == 0)
            notes.Add(new Note(firstStep, "nothing left", $"There are no {Formatter.Write(source)} in this window that you may see.", "A wider window, or see Arrivals."));
        else
            await ExplainEmpty(single, taken.Left, from, to, stop);

        var at = single.Length;
        SeriesTable? series = null;
        RowTable? rows = null;
        if (gatherer is not null)
        {
            (series, rows) = await Finish(gatherer, next!, taken.Schema, at, from, to, stop);
        }
        else
        {
            rows = next switch
            {
                TracesStep => RowTable.Made(kind, "traces", TraceRows.TraceColumns, await WholeTraces(kept.Select(row => Span.Of(ExtendedRow.Origin(row))), stop)),
                GraphStep graph when kind == RowKind.Flows => RowTable.Made(kind, "graph", FlowGraph.Columns, FlowGraph.Of(kept.Select(ExtendedRow.Origin), graph.Addresses, (window.To - window.From) / 1000.0)),
                GraphStep => RowTable.Made(kind, "graph", TraceRows.GraphColumns, TraceRows.Graph(all!, kept.Select(row => Span.Of(ExtendedRow.Origin(row))), (window.To - window.From) / 1000.0)),
                _ => single.Aggregate(RowTable.Of(taken.Schema, [.. kept.OrderByDescending(row => row.Milliseconds)]), (table, step) => table.Showing(step, kept)),
            };
        }
        if (gatherer is not null || next is TracesStep or GraphStep)
        {
            at++;
            account.Add(new StepAccount(Formatter.Write(next!), rows?.Rows.Count ?? series!.Rows.Count));
        }
        for (; at < steps.Count; at++)
        {
            var step = steps[at].Step;
            if (rows is not null && Gatherer(step, rows.Schema, slots) is { } later)
            {
                // After a step that kept some rows, those are looked at.
                foreach (var row in rows.Rows)
                    later.Add(row);
                (series, rows) = await Finish(later, step, rows.Schema, at, from, to, stop);
            }
            else if (rows is not null)
            {
                rows = rows.Take(firstStep + at + 1, step, notes);
            }
            else
            {
                series = series!.Take(firstStep + at + 1, step, notes);
            }
            account.Add(new StepAccount(Formatter.Write(step), rows?.Rows.Count ?? series!.Rows.Count));
        }
        if (rows?.Rows.Count > limits.KeptRows)
        {
            notes.Add(new Note(firstStep + steps.Count, "cut", $"Cut to {limits.KeptRows:N0} of {rows.Rows.Count:N0} rows.", "first 100"));
            rows = rows with { Rows = [.. rows.Rows.Take(limits.KeptRows)] };
        }
        return (series, rows);
    }

    private static IRowGatherer? Gatherer(Step? step, RowSchema schema, Slots slots)
    {
        switch (step)
        {
            case AggregateStep aggregate:
                return new RowAggregator(aggregate, schema, slots);
            case KindsStep when schema.Kind is not (RowKind.Logs or RowKind.Events):
                throw new EnquiryException(new(step.At.Line, step.At.Column, "kinds", "'kinds' takes log lines or events.", "count by name"));
            case KindsStep:
                return new GatheredKinds();
            case DifferStep differ:
                RowConditions.CheckUnits(schema, differ.Predicate);
                return new Differences(differ.Predicate, schema);
            default:
                return null;
        }
    }

    private async Task<(SeriesTable? Series, RowTable? Rows)> Finish(IRowGatherer gatherer, Step step, RowSchema schema, int at, long from, long to, CancellationToken stop)
    {
        switch (gatherer)
        {
            case RowAggregator aggregator:
                notes.AddRange(aggregator.Notes(firstStep + at + 1));
                return (aggregator.Finish(await reader.Arriving(schema.Kind, from, to, stop)), null);
            case GatheredKinds kinds:
                return (null, RowTable.Made(schema.Kind, "kinds", GatheredKinds.Columns, kinds.Finish()));
            case GatheredTraces traces:
                return (null, RowTable.Made(schema.Kind, "traces", TraceRows.TraceColumns, traces.Finish()));
            case Differences differences:
                if (differences.Empty is { } empty)
                    notes.Add(new Note(firstStep + at + 1, "nothing left", empty));
                return (null, RowTable.Made(schema.Kind, "differ", Differences.Columns, differences.Finish(to)));
            default:
                throw new InvalidOperationException("Nothing gathers for " + Formatter.Write(step));
        }
    }

    // Of very many spans, what is asked of their durations by whole minutes is known from sketches, where nothing else of them is looked at.
    private static bool Sketchable(Step[] single, Step? next, Slots slots) =>
        next is AggregateStep { Field: null or "duration", Function.Kind: FunctionKind.Count or FunctionKind.Sum or FunctionKind.Mean or FunctionKind.Min or FunctionKind.Max or FunctionKind.Quantile } aggregate
        && (aggregate.Field is not null || aggregate.Function.Kind == FunctionKind.Count) && slots.Width % 60_000 == 0
        && single.All(step => step is WhereStep) && single.SelectMany(step => Matching.FieldsOf(((WhereStep)step).Predicate)).Concat(aggregate.Grouping?.Fields ?? []).All(SketchedSpans.Known.Contains);

    private bool Singles() => steps.Any(step => step.Step switch
    {
        WhereStep where => Matching.FieldsOf(where.Predicate),
        ShowStep show => show.Fields,
        OrderStep order => [order.Field],
        AggregateStep aggregate => (aggregate.Grouping?.Fields ?? []).Append(aggregate.Field ?? ""),
        DifferStep differ => Matching.FieldsOf(differ.Predicate),
        _ => [],
    } is IEnumerable<string> fields && fields.Contains("source.port"));

    // A count by whole minutes needs no rows: the fields it looks at are enough.
    private static IReadOnlyCollection<string>? Counted(Step[] single, Step? next, Slots slots) =>
        next is AggregateStep { Function.Kind: FunctionKind.Count, Field: null } count && slots.Width % 60_000 == 0 && single.All(step => step is WhereStep)
            ? [.. single.SelectMany(step => Matching.FieldsOf(((WhereStep)step).Predicate)).Concat(count.Grouping?.Fields ?? []).Distinct()] : null;

    // Where the newest are enough, the oldest are let go; where the order matters, too many are an error.
    private void Keep(List<IRow> kept, IRow row, bool newestAreEnough)
    {
        kept.Add(row);
        if (kept.Count <= limits.KeptRows * 2)
            return;
        if (!newestAreEnough)
            throw new LimitException(Formatter.Write(steps.Count > 0 ? steps[0].Step : new FirstStep(1, default)), $"More than {limits.KeptRows * 2:N0} rows are left. Narrow with where, or shorten the window.");
        kept.Sort((a, b) => b.Milliseconds.CompareTo(a.Milliseconds));
        kept.RemoveRange(limits.KeptRows, kept.Count - limits.KeptRows);
        if (notes.All(note => note.Kind != "cut"))
            notes.Add(new Note(firstStep, "cut", $"Cut to the newest {limits.KeptRows:N0} rows.", "where …"));
    }

    private async Task ExplainEmpty(Step[] single, long[] left, long from, long to, CancellationToken stop)
    {
        var empty = Array.IndexOf(left, 0L);
        if (empty < 0 || single[empty] is not WhereStep where)
            return;
        var before = new List<IRow>();
        var leading = single.Take(empty).ToArray();
        var taken = new RowSteps(RowSchema.Of(source.Kind), leading);
        await foreach (var batch in reader.Rows(source.Kind, from, to, RowConditions.Hints(leading.TakeWhile(step => step is WhereStep).Select(step => ((WhereStep)step).Predicate)), stop))
        {
            before.AddRange(batch.Rows.Select(taken.Take).OfType<IRow>());
            if (before.Count >= MostLooked)
                break;
        }
        notes.AddRange(NothingLeft.Explain(firstStep + empty + 1, where.Predicate, before, "row"));
    }

    // A condition finds some spans of a trace; the row a trace gets is about all of them.
    private async Task<IReadOnlyList<IRow>> WholeTraces(IEnumerable<Span> found, CancellationToken stop)
    {
        var wanted = found.OrderByDescending(span => span.Start).Select(span => span.Trace).Distinct().ToArray();
        if (wanted.Length > MostTraces)
            notes.Add(new Note(firstStep, "cut", $"Cut to the newest {MostTraces:N0} of {wanted.Length:N0} traces.", "where …"));
        var set = wanted.Take(MostTraces).ToHashSet();
        var whole = new GatheredTraces();
        if (set.Count > 0)
            await foreach (var batch in reader.Rows(RowKind.Spans, window.From - TraceReach, window.To + TraceReach, RowHints.None with { ByTrace = true }, stop).Ahead(stop))
                foreach (var row in batch.Rows)
                    if (set.Contains(row is TracePart part ? part.Trace : ((ISpanRow)row).Place.Trace))
                        whole.Add(row);
        return whole.Finish();
    }
}
