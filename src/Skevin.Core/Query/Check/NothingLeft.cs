using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Check;

/// <summary>Says which part of a condition left nothing, and the nearest values that exist for this reader.</summary>
public static class NothingLeft
{
    private const int MostValues = 3;

    /// <summary>Notes for a <c>where</c> that matched none of the series it was given.</summary>
    /// <param name="step">Number of the step.</param>
    /// <param name="predicate">Its condition.</param>
    /// <param name="before">Series it was given, all visible to this reader.</param>
    public static IEnumerable<Note> Explain(int step, Predicate predicate, IReadOnlyList<Labels> before)
    {
        var parts = Matching.Conjuncts(predicate).ToArray();
        var alone = parts.Where(part => !before.Any(Matching.Compile(part))).ToArray();
        foreach (var part in alone)
            yield return One(step, part, before);
        if (alone.Length > 0)
            yield break;
        // Each part matches something, but nothing matches all: say what the first part leaves for the others.
        var first = parts.OfType<FieldPredicate>().FirstOrDefault(part => part.Field is "namespace" or "k8s.namespace.name");
        var rest = parts.Where(part => part != first).ToArray();
        if (first is not null && rest.Length > 0)
        {
            var others = before.Where(labels => rest.All(part => Matching.Compile(part)(labels)))
                .Select(labels => FieldNames.Value(labels, "namespace")).OfType<string>().Distinct().Order().Take(MostValues).ToArray();
            if (others.Length > 0)
            {
                yield return new Note(step, "nothing left",
                    $"No series fulfils all parts. What the other parts ask for is in namespace {Quoted(others)}.",
                    $"where namespace = \"{others[0]}\"");
                yield break;
            }
        }
        yield return new Note(step, "nothing left", "Each part matches something, but no series fulfils all of them.");
    }

    private static Note One(int step, Predicate part, IReadOnlyList<Labels> before)
    {
        var text = Formatter.Write(new WhereStep(part, default))["where ".Length..];
        if (part is not FieldPredicate field)
            return new Note(step, "nothing left", $"Nothing matches {text}.");
        var values = before.Select(labels => FieldNames.Value(labels, field.Field)).OfType<string>().Distinct().ToArray();
        if (values.Length == 0)
        {
            var fields = before.SelectMany(labels => labels.Select(pair => FieldNames.Shortest(pair.Key))).Distinct().Order().ToArray();
            var near = EditDistance.Nearest(field.Field, fields, 1).FirstOrDefault();
            return new Note(step, "nothing left",
                $"No series has a field {field.Field}. There are: {string.Join(", ", fields.Take(12))}.", near);
        }
        var wanted = field.Values.OfType<TextValue>().Select(value => value.Text).FirstOrDefault();
        var nearest = wanted is null ? [] : EditDistance.Nearest(wanted, values, MostValues).ToArray();
        var says = nearest.Length > 0
            ? $"Nothing matches {text}. The nearest values of {field.Field}: {Quoted(nearest)}."
            : $"Nothing matches {text}. {field.Field} has {values.Length} values, for example {Quoted([.. values.Order().Take(MostValues)])}.";
        return new Note(step, "nothing left", says, nearest.Length > 0 ? $"{field.Field} = \"{nearest[0]}\"" : null);
    }

    private static string Quoted(string[] values) => string.Join(", ", values.Select(value => $"\"{value}\""));
}
