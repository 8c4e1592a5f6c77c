using System.Globalization;
using System.Net;
using System.Text.RegularExpressions;
using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>Attributes of a series as a row, so that conditions work on both alike.</summary>
internal sealed class LabelRow(Labels labels) : IRow
{
    public long Milliseconds => 0;

    public double Weight => 1;

    public FieldValue this[string field] => FieldValue.Of(FieldNames.Value(labels, field));

    public IEnumerable<string> Fields => labels.Select(pair => pair.Key);
}

/// <summary>Whether a row fulfils a condition.</summary>
public static class Matching
{
    /// <summary>Turns a condition into a test of attributes.</summary>
    public static Func<Labels, bool> OfLabels(Predicate predicate)
    {
        var test = Compile(predicate);
        return labels => test(new LabelRow(labels));
    }

    /// <summary>Turns a condition into a test, patterns compiled once.</summary>
    public static Func<IRow, bool> Compile(Predicate predicate)
    {
        switch (predicate)
        {
            case NotPredicate not:
                var inner = Compile(not.Inner);
                return row => !inner(row);
            case AndPredicate and:
                var (left, right) = (Compile(and.Left), Compile(and.Right));
                return row => left(row) && right(row);
            case OrPredicate or:
                var (one, other) = (Compile(or.Left), Compile(or.Right));
                return row => one(row) || other(row);
            case FieldPredicate field:
                var test = Test(field);
                if (field is { Comparison: Comparison.Says, Field: "text" } && Blocks.WordFilter.Words(((TextValue)field.Values[0]).Text).Where(word => word.All(char.IsAscii)).MaxBy(word => word.Length) is { } word)
                    return row => (row is not ISearchedRow searched || searched.MayHave(word)) && test(row[field.Field]);
                return row => test(row[field.Field]);
            default:
                throw new InvalidOperationException("Unknown predicate.");
        }
    }

    /// <summary>The comparisons a condition is joined from by <c>and</c>.</summary>
    public static IEnumerable<Predicate> Conjuncts(Predicate predicate) => predicate is AndPredicate and
        ? Conjuncts(and.Left).Concat(Conjuncts(and.Right))
        : [predicate];

    /// <summary>The fields a condition looks at.</summary>
    public static IEnumerable<string> FieldsOf(Predicate predicate) => predicate switch
    {
        NotPredicate not => FieldsOf(not.Inner),
        AndPredicate and => FieldsOf(and.Left).Concat(FieldsOf(and.Right)),
        OrPredicate or => FieldsOf(or.Left).Concat(FieldsOf(or.Right)),
        FieldPredicate field => [field.Field],
        _ => [],
    };

    private static Func<FieldValue, bool> Test(FieldPredicate field)
    {
        switch (field.Comparison)
        {
            case Comparison.Exists:
                return value => value.Exists;
            case Comparison.Like:
                return Pattern(LinearPattern.Like(((TextValue)field.Values[0]).Text));
            case Comparison.Matches:
                return Pattern(LinearPattern.Compile(((TextValue)field.Values[0]).Text)!);
            case Comparison.Says:
                var words = Blocks.WordFilter.Words(((TextValue)field.Values[0]).Text);
                return value => value.AsText is { } text && Says(text, words);
            case Comparison.Inside:
                var network = Network(((TextValue)field.Values[0]).Text);
                return value => value.Text is { } text && IPAddress.TryParse(text, out var address) && network.Contains(address);
            case Comparison.Equal:
                return Same(field.Values[0]);
            case Comparison.NotEqual:
                var same = Same(field.Values[0]);
                return value => !same(value);
            case Comparison.In:
                var tests = field.Values.Select(Same).ToArray();
                return value => tests.Any(test => test(value));
            default:
                return value => value.Exists && Order(value, field.Values[0]) is { } order && field.Comparison switch
                {
                    Comparison.Less => order < 0,
                    Comparison.LessOrEqual => order <= 0,
                    Comparison.Greater => order > 0,
                    _ => order >= 0,
                };
        }
    }

    // A single address is a network of its full length.
    private static IPNetwork Network(string text) =>
        IPNetwork.TryParse(text, out var network) ? network : new IPNetwork(IPAddress.Parse(text), text.Contains(':') ? 128 : 32);

    private static bool Says(string text, List<string> wanted)
    {
        if (text.Length < wanted[0].Length)
            return false;
        if (wanted.Count > 1)
        {
            var words = Blocks.WordFilter.Words(text);
            return Enumerable.Range(0, Math.Max(0, words.Count - wanted.Count + 1)).Any(at => wanted.Index().All(pair => words[at + pair.Index] == pair.Item));
        }
        // One word, the usual case: found without taking the text apart.
        for (var from = 0; text.IndexOf(wanted[0], from, StringComparison.OrdinalIgnoreCase) is var at && at >= 0; from = at + 1)
            if ((at == 0 || !char.IsLetterOrDigit(text[at - 1])) && (at + wanted[0].Length == text.Length || !char.IsLetterOrDigit(text[at + wanted[0].Length])))
                return true;
        return false;
    }

    private static Func<FieldValue, bool> Pattern(Regex pattern) => value => value.AsText is { } text && pattern.IsMatch(text);

    private static Func<FieldValue, bool> Same(Value wanted) => wanted switch
    {
        TextValue text => value => value.AsText == text.Text,
        NumberValue => value => value.Exists && Order(value, wanted) == 0,
        _ => throw new InvalidOperationException("Unknown value."),
    };

    private static int? Order(FieldValue value, Value wanted)
    {
        if (wanted is TextValue text)
            return value.IsNumber && double.TryParse(text.Text, NumberStyles.Float, CultureInfo.InvariantCulture, out var asNumber)
                ? value.Number.CompareTo(asNumber)
                : Math.Sign(string.CompareOrdinal(value.AsText, text.Text));
        var number = (NumberValue)wanted;
        var factor = number.Suffix.Length == 0 ? 1 : Units.Suffixes.TryGetValue(number.Suffix, out var known) ? known.Factor : double.NaN;
        return value.AsNumber is var own && !double.IsNaN(own) && !double.IsNaN(factor) ? own.CompareTo(number.Number * factor) : null;
    }
}
