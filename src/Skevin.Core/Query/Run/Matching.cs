using System.Globalization;
using System.Text.RegularExpressions;
using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>Whether the attributes of a series fulfil a condition.</summary>
public static class Matching
{
    /// <summary>Turns a condition into a test, patterns compiled once.</summary>
    public static Func<Labels, bool> Compile(Predicate predicate)
    {
        switch (predicate)
        {
            case NotPredicate not:
                var inner = Compile(not.Inner);
                return labels => !inner(labels);
            case AndPredicate and:
                var (left, right) = (Compile(and.Left), Compile(and.Right));
                return labels => left(labels) && right(labels);
            case OrPredicate or:
                var (one, other) = (Compile(or.Left), Compile(or.Right));
                return labels => one(labels) || other(labels);
            case FieldPredicate field:
                var test = Test(field);
                return labels => test(FieldNames.Value(labels, field.Field));
            default:
                throw new InvalidOperationException("Unknown predicate.");
        }
    }

    /// <summary>The comparisons a condition is joined from by <c>and</c>.</summary>
    public static IEnumerable<Predicate> Conjuncts(Predicate predicate) => predicate is AndPredicate and
        ? Conjuncts(and.Left).Concat(Conjuncts(and.Right))
        : [predicate];

    private static Func<string?, bool> Test(FieldPredicate field)
    {
        switch (field.Comparison)
        {
            case Comparison.Exists:
                return value => value is not null;
            case Comparison.Like:
                return Pattern(LinearPattern.Like(((TextValue)field.Values[0]).Text));
            case Comparison.Matches:
                return Pattern(LinearPattern.Compile(((TextValue)field.Values[0]).Text)!);
            case Comparison.Equal:
                return Same(field.Values[0]);
            case Comparison.NotEqual:
                var same = Same(field.Values[0]);
                return value => !same(value);
            case Comparison.In:
                var tests = field.Values.Select(Same).ToArray();
                return value => tests.Any(test => test(value));
            default:
                return value => value is not null && Order(value, field.Values[0]) is { } order && field.Comparison switch
                {
                    Comparison.Less => order < 0,
                    Comparison.LessOrEqual => order <= 0,
                    Comparison.Greater => order > 0,
                    _ => order >= 0,
                };
        }
    }

    private static Func<string?, bool> Pattern(Regex pattern) => value => value is not null && pattern.IsMatch(value);

    private static Func<string?, bool> Same(Value wanted) => wanted switch
    {
        TextValue text => value => value == text.Text,
        NumberValue => value => value is not null && Order(value, wanted) == 0,
        _ => throw new InvalidOperationException("Unknown value."),
    };

    private static int? Order(string value, Value wanted)
    {
        if (wanted is TextValue text)
            return Math.Sign(string.CompareOrdinal(value, text.Text));
        var number = (NumberValue)wanted;
        var factor = number.Suffix.Length == 0 ? 1 : Units.Suffixes.TryGetValue(number.Suffix, out var known) ? known.Factor : double.NaN;
        return double.TryParse(value, NumberStyles.Float, CultureInfo.InvariantCulture, out var own) && !double.IsNaN(factor)
            ? own.CompareTo(number.Number * factor)
            : null;
    }
}
