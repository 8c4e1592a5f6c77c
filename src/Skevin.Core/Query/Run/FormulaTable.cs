using Skevin.Core.Query.Check;
using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>Arithmetic over the series of other parts: joined where the labels they share are equal, the side with fewer labels spread over the other.</summary>
internal static class FormulaTable
{
    private const int MostSeries = 10_000;

    /// <summary>Computes a formula.</summary>
    /// <param name="source">The formula.</param>
    /// <param name="parts">The parts it may name.</param>
    /// <param name="slots">The common slots.</param>
    /// <param name="step">Number of the step, for notes.</param>
    /// <param name="notes">Receives notes.</param>
    public static SeriesTable Of(FormulaSource source, IReadOnlyDictionary<string, SeriesTable> parts, Slots slots, int step, List<Note> notes)
    {
        var byZero = 0;
        var (unit, rows, _) = Eval(source.Formula);
        if (byZero > 0)
            notes.Add(new Note(step, "divided by zero", $"{byZero} {(byZero == 1 ? "value was" : "values were")} divided by zero; they stand empty."));
        return new SeriesTable(SeriesKind.Gauge, unit, slots, "", [.. rows]);

        (string Unit, List<TableRow> Rows, bool Bare) Eval(Formula formula)
        {
            switch (formula)
            {
                case NumberFormula number:
                    var (factor, itsUnit) = number.Suffix.Length == 0 ? (1, "1") : Units.Suffixes[number.Suffix];
                    var values = new double[slots.Count];
                    Array.Fill(values, number.Number * factor);
                    return (itsUnit, [new TableRow(Labels.None, [], values)], number.Suffix.Length == 0);
                case NamedFormula part:
                    var table = parts.TryGetValue(part.Name, out var found) ? found
                        : throw new EnquiryException(new(part.At.Line, part.At.Column, part.Name, $"{part.Name} gives rows; a formula takes series.", $"{part.Name}: … -> count"));
                    if (table.Kind == SeriesKind.Counter && table.Rows.Count > 0)
                        throw new EnquiryException(new(part.At.Line, part.At.Column, part.Name, $"{part.Name} is a counter: its rate or rise is usually meant.", "-> rate"));
                    var covering = table with { Rows = [.. table.Rows.Select(row => new TableRow(row.Labels, [], table.ValuesOf(row, FunctionKind.Mean)))] };
                    // Where nothing was found, nobody has said a unit.
                    return (table.Unit, [.. covering.On(slots).Rows], table is { Rows.Count: 0, Unit: "" or "1" });
                case JoinedFormula joined:
                    var (left, right) = (Eval(joined.Left), Eval(joined.Right));
                    return (FormulaUnits.Of(joined, left.Unit, left.Bare, right.Unit, right.Bare), Join(joined.Operator, left.Rows, right.Rows), left.Bare && right.Bare);
                default:
                    throw new InvalidOperationException("Unknown formula.");
            }
        }

        List<TableRow> Join(char sign, List<TableRow> left, List<TableRow> right)
        {
            var rows = new List<TableRow>();
            foreach (var a in left)
                foreach (var b in right)
                {
                    if (a.Labels.Any(pair => b.Labels[pair.Key] is { } other && other != pair.Value))
                        continue;
                    if (rows.Count >= MostSeries)
                        throw new LimitException("formula", $"The formula would give more than {MostSeries:N0} series. Group its parts by the same fields.");
                    var values = new double[slots.Count];
                    for (var i = 0; i < values.Length; i++)
                    {
                        var (x, y) = (a.Values![i], b.Values![i]);
                        if (sign == '/' && y == 0 && !double.IsNaN(x))
                        {
                            byZero++;
                            values[i] = double.NaN;
                            continue;
                        }
                        values[i] = JoinedFormula.Join(x, sign, y);
                    }
                    rows.Add(new TableRow(Labels.From(a.Labels.Concat(b.Labels)), [], values));
                }
            return rows;
        }
    }
}
