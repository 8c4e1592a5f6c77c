using Skevin.Core.Blocks;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Check;

/// <summary>Says which part of a condition left nothing, and the nearest values that exist for this reader.</summary>
public static class NothingLeft
{
    private const int MostValues = 3;
    private const int MostLooked = 20_000;

    /// <summary>Notes for a <c>where</c> that matched none of the series it was given.</summary>
    /// <param name="step">Number of the step.</param>
    /// <param name="predicate">Its condition.</param>
    /// <param name="before">Series it was given, all visible to this reader.</param>
    public static IEnumerable<Note> Explain(int step, Predicate predicate, IReadOnlyList<Labels> before) =>
        Explain(step, predicate, [.. before.Select(labels => new LabelRow(labels))], "series");

    /// <summary>Notes for a <c>where</c> that matched none of the rows it was given.</summary>
    /// <param name="step">Number of the step.</param>
    /// <param name="predicate">Its condition.</param>
    /// <param name="before">Rows it was given, all visible to this reader; of many, some.</param>
    /// <param name="what">What a row is, in the singular.</param>
    public static IEnumerable<Note> Explain(int step, Predicate predicate, IReadOnlyList<IRow> before, string what)
    {
        var parts = Matching.Conjuncts(predicate).ToArray();
        var alone = parts.Where(part => !before.Any(Matching.Compile(part))).ToArray();
        foreach (var part in alone)
            yield return One(step, part, before, what);
        if (alone.Length > 0)
            yield break;
        // Each part matches something, but nothing matches all: say what the first part leaves for the others.
        var first = parts.OfType<FieldPredicate>().FirstOrDefault(part => part.Field is "namespace" or "k8s.namespace.name");
        var rest = parts.Where(part => part != first).ToArray();
        if (first is not null && rest.Length > 0)
        {
            var others = before.Where(row => rest.All(part => Matching.Compile(part)(row)))
                .Select(row => row["namespace"].AsText).OfType<string>().Distinct().Order().Take(MostValues).ToArray();
            if (others.Length > 0)
            {
                yield return new Note(step, "nothing left",
                    $"No {what} fulfils all parts. What the other parts ask for is in namespace {Quoted(others)}.",
                    $"where namespace = \"{others[0]}\"");
                yield break;
            }
        }
        yield return new Note(step, "nothing left", $"Each part matches something, but no {what} fulfils all of them.");
    }

    private static Note One(int step, Predicate part, IReadOnlyList<IRow> before, string what)
    {
        var text = Formatter.Write(new WhereStep(part, default))["where ".Length..];
        if (part is not FieldPredicate field)
            return new Note(step, "nothing left", $"Nothing matches {text}.");
        var values = before.Select(row => row[field.Field].AsText).OfType<string>().Distinct().Take(MostLooked).ToArray();
        if (values.Length == 0)
        {
            var fields = before.SelectMany(row => row.Fields.Select(FieldNames.Shortest)).Distinct().Order().ToArray();
            var near = EditDistance.Nearest(field.Field, fields, 1).FirstOrDefault();
            return new Note(step, "nothing left",
                $"No {what} has a field {field.Field}. There are: {string.Join(", ", fields.Take(12))}.", near);
        }
        if (field.Comparison == Comparison.Says)
            return OneWord(step, field, values, text);
        var wanted = field.Values.OfType<TextValue>().Select(value => value.Text).FirstOrDefault();
        var nearest = wanted is null ? [] : EditDistance.Nearest(wanted, values, MostValues).ToArray();
        var says = nearest.Length > 0
            ? $"Nothing matches {text}. The nearest values of {field.Field}: {Quoted(nearest)}."
            : $"Nothing matches {text}. {field.Field} has {values.Length} values, for example {Quoted([.. values.Order().Take(MostValues)])}.";
        return new Note(step, "nothing left", says, nearest.Length > 0 ? $"{field.Field} = \"{nearest[0]}\"" : null);
    }

    // The words of the texts are the vocabulary a misspelt one is looked up in.
    private static Note OneWord(int step, FieldPredicate field, string[] values, string text)
    {
        var vocabulary = new HashSet<string>(StringComparer.Ordinal);
        foreach (var value in values)
            WordFilter.Collect(value, vocabulary);
        var wanted = WordFilter.Words(((TextValue)field.Values[0]).Text);
        var strange = wanted.Where(word => !vocabulary.Contains(word)).ToArray();
        if (strange.Length == 0)
            return new Note(step, "nothing left", $"Nothing matches {text}. Each of its words occurs, but not one behind the other.");
        var nearest = EditDistance.Nearest(strange[0], vocabulary, MostValues).ToArray();
        return nearest.Length == 0
            ? new Note(step, "nothing left", $"Nothing matches {text}. The word \"{strange[0]}\" does not occur in this window.")
            : new Note(step, "nothing left", $"The word \"{strange[0]}\" does not occur in this window. The nearest that do: {Quoted(nearest)}.",
                $"{Formatter.Name(field.Field)} says \"{string.Join(' ', wanted.Select(word => word == strange[0] ? nearest[0] : word))}\"");
    }

    private static string Quoted(string[] values) => string.Join(", ", values.Select(value => $"\"{value}\""));
}
