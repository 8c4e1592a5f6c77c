using Skevin.Core.Query.Check;
using Skevin.Core.Query.Language;

namespace Skevin.Core.Query.Run;

/// <summary>The arithmetic of <c>set</c> over the fields of a row.</summary>
internal static class RowExpression
{
    /// <summary>Turns an expression into a function of a row. What cannot be computed, such as a division by zero, is absent.</summary>
    /// <returns>The function and the UCUM unit of its numbers; empty for text.</returns>
    /// <exception cref="EnquiryException">Different units are added.</exception>
    public static (Func<IRow, FieldValue> Of, string Unit) Compile(Formula formula, RowSchema schema)
    {
        // A field or a text alone is taken as it is; in arithmetic it must be a number.
        switch (formula)
        {
            case TextFormula text:
                var value = FieldValue.Of(text.Text);
                return (_ => value, "");
            case NamedFormula field:
                return (row => row[field.Name], schema.UnitOf(field.Name) ?? "");
        }
        var (of, unit, _) = Number(formula, schema);
        return (row => of(row) is var number && double.IsFinite(number) ? FieldValue.Of(number) : FieldValue.Absent, unit);
    }

    private static (Func<IRow, double> Of, string Unit, bool Bare) Number(Formula formula, RowSchema schema)
    {
        switch (formula)
        {
            case NumberFormula number:
                var (factor, itsUnit) = number.Suffix.Length == 0 ? (1, "1") : Units.Suffixes[number.Suffix];
                var constant = number.Number * factor;
                return (_ => constant, itsUnit, number.Suffix.Length == 0);
            case NamedFormula field:
                // An attribute says nothing of its unit: it takes that of what it is added to.
                var known = schema.UnitOf(field.Name) is { } unit and not "time" ? unit : null;
                return (row => row[field.Name].AsNumber, known ?? "1", known is null);
            case TextFormula text:
                throw new EnquiryException(new(text.At.Line, text.At.Column, text.Text, "A text cannot be reckoned with.", null));
            case JoinedFormula joined:
                var (left, right) = (Number(joined.Left, schema), Number(joined.Right, schema));
                return (row => JoinedFormula.Join(left.Of(row), joined.Operator, right.Of(row)), FormulaUnits.Of(joined, left.Unit, left.Bare, right.Unit, right.Bare), left.Bare && right.Bare);
            default:
                throw new InvalidOperationException("Unknown formula.");
        }
    }
}
