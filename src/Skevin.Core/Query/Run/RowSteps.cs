using Skevin.Core.Query.Check;
using Skevin.Core.Query.Language;

namespace Skevin.Core.Query.Run;

/// <summary>Steps that look at one row at a time: <c>where</c>, <c>parse</c>, <c>set</c>. Taken while rows are read.</summary>
internal sealed class RowSteps
{
    private readonly List<(Step Step, Func<IRow, IRow?> Take)> _steps = [];
    private readonly long[] _misfits;

    /// <exception cref="EnquiryException">A quantity of another dimension than its field.</exception>
    public RowSteps(RowSchema schema, IEnumerable<Step> steps)
    {
        Schema = schema;
        foreach (var step in steps)
            _steps.Add((step, Compile(step, _steps.Count)));
        Left = new long[_steps.Count];
        _misfits = new long[_steps.Count];
    }

    /// <summary>What is known of the fields behind the last step.</summary>
    public RowSchema Schema { get; private set; }

    /// <summary>Rows left after each step.</summary>
    public long[] Left { get; }

    /// <summary>Whether a step is one of these.</summary>
    public static bool Fits(Step step) => step is WhereStep or ParseStep or SetStep;

    /// <summary>Takes a row through the steps; null where a condition does not hold.</summary>
    public IRow? Take(IRow row)
    {
        for (var i = 0; i < _steps.Count; i++)
        {
            if (_steps[i].Take(row) is not { } next)
                return null;
            row = next;
            Left[i] += row.Rows;
        }
        return row;
    }

    /// <summary>Notes on what a pattern did not fit.</summary>
    /// <param name="first">Number of the first step.</param>
    public IEnumerable<Note> Notes(int first)
    {
        for (var i = 0; i < _steps.Count; i++)
            if (_misfits[i] > 0 && Left[i] > 0)
                yield return new Note(first + i, "not parsed", $"{_misfits[i]:N0} of {Left[i]:N0} {(Left[i] == 1 ? "row" : "rows")} {(_misfits[i] == 1 ? "does" : "do")} not fit; {(_misfits[i] == 1 ? "it has" : "they have")} none of these fields.");
    }

    private Func<IRow, IRow?> Compile(Step step, int number)
    {
        switch (step)
        {
            case WhereStep where:
                RowConditions.CheckUnits(Schema, where.Predicate);
                var test = Matching.Compile(RowConditions.Fit(Schema.Kind, where.Predicate));
                return row => test(row) ? row : null;
            case ParseStep parse:
                var (read, from) = (RowReading.Of(parse), parse.From ?? "text");
                foreach (var (field, unit) in RowReading.Units(parse))
                    Schema = Schema.With(field, unit);
                return row =>
                {
                    if (row[from].AsText is { } text && read(text) is { } found)
                        return new ExtendedRow(row, found);
                    _misfits[number]++;
                    return row;
                };
            case SetStep set:
                var (of, itsUnit) = RowExpression.Compile(set.Expression, Schema);
                Schema = Schema.With(set.Name, itsUnit);
                return row => new ExtendedRow(row, new Dictionary<string, FieldValue> { [set.Name] = of(row) });
            default:
                throw new InvalidOperationException("Not a step of single rows.");
        }
    }
}
