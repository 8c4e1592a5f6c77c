using Skevin.Core.Query.Language;

namespace Skevin.Core.Query.Run;

/// <summary>Rows given on as they are read, so that an answer of any length needs no room.</summary>
/// <param name="Columns">What each row holds.</param>
/// <param name="Batches">Rows as the store has them: the newest block first, the newest row of a batch first.</param>
public sealed record RowStream(IReadOnlyList<AnswerColumn> Columns, IAsyncEnumerable<IReadOnlyList<object?[]>> Batches)
{
    /// <summary>The rows of an enquiry whose steps look at one row at a time; null where one of them must see all rows first.</summary>
    /// <param name="enquiry">The tree.</param>
    /// <param name="scope">A condition the page's scope adds, or null.</param>
    /// <param name="window">The window.</param>
    /// <param name="reader">Bound to the reader's access scope.</param>
    /// <param name="stop">Cancels reading.</param>
    /// <exception cref="EnquiryException">A step does not fit.</exception>
    public static RowStream? Of(Enquiry enquiry, Predicate? scope, Window window, IRowReader reader, CancellationToken stop)
    {
        // What json fields there are is only known when all have been seen, and these columns must be known before the first row.
        if (enquiry.Parts is not [{ Body: { Source: RowSource source } body }] || body.Steps.Any(step => step is ParseStep { Pattern: null } || !(RowSteps.Fits(step) || step is ShowStep)))
            return null;
        IEnumerable<Step> all = scope is null ? body.Steps : body.Steps.Prepend(new WhereStep(scope, default));
        // What was left out by show is gone for the steps behind it as well, so show can only be the last.
        var single = all.TakeWhile(RowSteps.Fits).ToArray();
        if (all.Skip(single.Length).Skip(1).Any())
            return null;
        var steps = new RowSteps(RowSchema.Of(source.Kind), single);
        var table = single.Aggregate(RowTable.Of(steps.Schema, []), (shown, step) => shown.Showing(step, []));
        if (all.Skip(single.Length).SingleOrDefault() is { } show)
            table = table.Take(0, show, []);
        var hints = RowConditions.Hints(single.TakeWhile(step => step is WhereStep).Select(step => ((WhereStep)step).Predicate));
        return new RowStream(table.Columns, Batches());

        async IAsyncEnumerable<IReadOnlyList<object?[]>> Batches()
        {
            await foreach (var batch in reader.Rows(source.Kind, window.From, window.To, hints, stop).Ahead(stop))
                if (batch.Rows.Select(steps.Take).OfType<IRow>().OrderByDescending(row => row.Milliseconds).ToArray() is { Length: > 0 } kept)
                    yield return (table with { Rows = kept }).Finish().Rows;
        }
    }
}
