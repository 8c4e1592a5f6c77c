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
        var leading = steps.TakeWhile(step => step.Step is WhereStep).Select(step => ((WhereStep)step.Step).Predicate).ToArray();
        foreach (var predicate in leading)
            RowConditions.CheckUnits(kind, predicate);
        var tests = leading.Select(predicate => Matching.Compile(RowConditions.Fit(kind, predicate))).ToArray();
        var left = new long[tests.Length + 1];
        var next = leading.Length < steps.Count ? steps[leading.Length].Step : null;
        if (next is TracesStep or GraphStep && kind is not (RowKind.Spans or RowKind.Flows) || next is TracesStep && kind != RowKind.Spans)
            throw new EnquiryException(new(next.At.Line, next.At.Column, next is TracesStep ? "traces" : "graph", next is TracesStep ? "'traces' takes spans." : "'graph' takes spans or flows.", null));

        // Every slot is read whole, so counting begins where the first slot does.
        var aggregate = next as AggregateStep;
        var (from, to) = aggregate is null ? (window.From, window.To) : (Math.Min(window.From, slots.Start), window.To);
        var aggregator = aggregate is null ? null : new RowAggregator(aggregate, kind, slots);
        var kept = new List<IRow>();
        var all = next is GraphStep && kind == RowKind.Spans ? new List<Span>() : null;
        await foreach (var batch in reader.Rows(kind, from, to, all is null ? RowConditions.Hints(leading) : RowHints.None, stop))
        {
            left[0] += batch.Passed;
            foreach (var row in batch.Rows)
            {
                left[0]++;
                if (left[0] > limits.Rows)
                    throw new LimitException(Formatter.Write(source), $"More than {limits.Rows:N0} rows would be read. Shorten the window.");
                all?.Add((Span)row);
                var passed = 0;
                while (passed < tests.Length && tests[passed](row))
                    left[++passed]++;
                if (passed < tests.Length)
                    continue;
                if (aggregator is not null)
                    aggregator.Add(row);
                else
                    Keep(kept, row, next is null or ShowStep or FirstStep && !steps.Any(step => step.Step is OrderStep));
            }
            stop.ThrowIfCancellationRequested();
        }
        account.Add(new StepAccount(Formatter.Write(source), left[0]));
        for (var i = 0; i < tests.Length; i++)
            account.Add(new StepAccount(Formatter.Write(steps[i].Step), left[i + 1], steps[i].Scope));
        if (left[0] == 0)
            notes.Add(new Note(firstStep, "nothing left", $"There are no {Formatter.Write(source)} in this window that you may see.", "A wider window, or see Arrivals."));
        else
            await ExplainEmpty(leading, left, from, to, stop);

        var at = leading.Length;
        SeriesTable? series = null;
        RowTable? rows = null;
        if (aggregator is not null)
        {
            series = aggregator.Finish(await reader.Arriving(kind, from, to, stop));
            if (aggregator.Weighted)
                notes.Add(new Note(firstStep + at + 1, "weighted", "Sampled spans count by their weight, so these figures are estimates."));
            if (aggregator.WithoutNumber > 0)
                notes.Add(new Note(firstStep + at + 1, "no number", $"{aggregator.WithoutNumber:N0} rows have no number under {aggregate!.Field} and are left out."));
            at++;
            account.Add(new StepAccount(Formatter.Write(aggregate!), series.Rows.Count));
        }
        else
        {
            rows = next switch
            {
                TracesStep => new RowTable(kind, "traces", TraceRows.TraceColumns, TraceRows.Traces(await WholeTraces(kept.Cast<Span>(), leading.Length > 0, stop))),
                GraphStep graph when kind == RowKind.Flows => new RowTable(kind, "graph", FlowGraph.Columns, FlowGraph.Of(kept, graph.Addresses, (window.To - window.From) / 1000.0)),
                GraphStep => new RowTable(kind, "graph", TraceRows.GraphColumns, TraceRows.Graph(all!, kept.Cast<Span>(), (window.To - window.From) / 1000.0)),
                _ => RowTable.Of(kind, [.. kept.OrderByDescending(row => row.Milliseconds)]),
            };
            if (next is TracesStep or GraphStep)
            {
                at++;
                account.Add(new StepAccount(Formatter.Write(next), rows.Rows.Count));
            }
        }
        for (; at < steps.Count; at++)
        {
            var step = steps[at].Step;
            if (rows is not null && step is AggregateStep later)
            {
                // After a step that kept some rows, those are counted.
                var counting = new RowAggregator(later, kind, slots);
                foreach (var row in rows.Rows)
                    counting.Add(row);
                (series, rows) = (counting.Finish(await reader.Arriving(kind, from, to, stop)), null);
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
        return (series, rows);
    }

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

    private async Task ExplainEmpty(Predicate[] leading, long[] left, long from, long to, CancellationToken stop)
    {
        var empty = Array.FindIndex(left, 1, count => count == 0) - 1;
        if (empty < 0)
            return;
        var before = new List<IRow>();
        var tests = leading.Take(empty).Select(predicate => Matching.Compile(RowConditions.Fit(source.Kind, predicate))).ToArray();
        await foreach (var batch in reader.Rows(source.Kind, from, to, RowConditions.Hints(leading.Take(empty)), stop))
        {
            before.AddRange(batch.Rows.Where(row => tests.All(test => test(row))));
            if (before.Count >= MostLooked)
                break;
        }
        notes.AddRange(NothingLeft.Explain(firstStep + empty + 1, leading[empty], before, "row"));
    }

    // A condition finds some spans of a trace; the row a trace gets is about all of them.
    private async Task<IEnumerable<Span>> WholeTraces(IEnumerable<Span> found, bool filtered, CancellationToken stop)
    {
        if (!filtered)
            return found;
        var wanted = found.OrderByDescending(span => span.Start).Select(span => span.Trace).Distinct().ToArray();
        if (wanted.Length > MostTraces)
            notes.Add(new Note(firstStep, "cut", $"Cut to the newest {MostTraces:N0} of {wanted.Length:N0} traces.", "where …"));
        var set = wanted.Take(MostTraces).ToHashSet();
        var whole = new List<Span>();
        if (set.Count > 0)
            await foreach (var batch in reader.Rows(RowKind.Spans, window.From - TraceReach, window.To + TraceReach, RowHints.None, stop))
                whole.AddRange(batch.Rows.Cast<Span>().Where(span => set.Contains(span.Trace)));
        return whole;
    }
}
