using System.Globalization;

namespace Skevin.Core.Query.Language;

/// <summary>Tree → text, one step a line. Parsing what it wrote gives the same tree.</summary>
public static class Formatter
{
    /// <summary>The whole enquiry.</summary>
    public static string Write(Enquiry enquiry) =>
        string.Join("\n", enquiry.Steps.Select(step => "  -> " + Write(step)).Prepend(Source(enquiry.Source.Name)));

    /// <summary>A source's name, in backquotes where it would not read as a name.</summary>
    public static string Source(string name) => Words.SourcesToCome.Contains(name) ? $"`{name}`" : Name(name);

    /// <summary>One step, without its arrow.</summary>
    public static string Write(Step step) => step switch
    {
        WhereStep where => "where " + Write(where.Predicate, 0),
        RiseStep rise => (rise.PerSecond ? "rate" : "rise") + Every(rise.Every),
        AggregateStep aggregate => aggregate.Function.ToString().ToLowerInvariant() + Write(aggregate.Grouping) + Every(aggregate.Every),
        RankStep rank => $"{(rank.Highest ? "highest" : "lowest")} {rank.Count}"
            + (rank.By == Aggregate.Mean ? "" : " by " + rank.By.ToString().ToLowerInvariant()),
        _ => throw new InvalidOperationException("A step without a written form: " + step.GetType().Name),
    };

    private static string Every(TimeSpan? every) => every is { } width ? " every " + Units.Write(width) : "";

    private static string Write(Grouping? grouping) => grouping is null
        ? ""
        : (grouping.Except ? " except " : " by ") + string.Join(", ", grouping.Fields.Select(Name));

    private static string Write(Predicate predicate, int level)
    {
        // Levels: 0 or, 1 and, 2 not. A right operand of the same level keeps its brackets, so that the tree stays the same.
        string Bracket(string text, int own) => own < level ? $"({text})" : text;
        return predicate switch
        {
            OrPredicate or => Bracket($"{Write(or.Left, 0)} or {Write(or.Right, 1)}", 0),
            AndPredicate and => Bracket($"{Write(and.Left, 1)} and {Write(and.Right, 2)}", 1),
            NotPredicate not => "not " + Write(not.Inner, 2),
            FieldPredicate field => Write(field),
            _ => throw new InvalidOperationException("A predicate without a written form."),
        };
    }

    private static string Write(FieldPredicate field)
    {
        var name = Words.InPredicates.Contains(field.Field) ? $"`{field.Field}`" : Name(field.Field);
        return field.Comparison switch
        {
            Comparison.Exists => name + " exists",
            Comparison.In => $"{name} in ({string.Join(", ", field.Values.Select(Write))})",
            Comparison.Like => $"{name} like {Write(field.Values[0])}",
            Comparison.Matches => $"{name} matches {Write(field.Values[0])}",
            _ => $"{name} {Symbol(field.Comparison)} {Write(field.Values[0])}",
        };
    }

    private static string Symbol(Comparison comparison) => comparison switch
    {
        Comparison.Equal => "=",
        Comparison.NotEqual => "!=",
        Comparison.Less => "<",
        Comparison.LessOrEqual => "<=",
        Comparison.Greater => ">",
        _ => ">=",
    };

    private static string Write(Value value) => value switch
    {
        TextValue text => "\"" + text.Text.Replace("\\", "\\\\").Replace("\"", "\\\"") + "\"",
        NumberValue number => number.Number.ToString("R", CultureInfo.InvariantCulture) + number.Suffix,
        _ => throw new InvalidOperationException("A value without a written form."),
    };

    private static string Name(string name)
    {
        var plain = name.Length > 0 && (char.IsLetter(name[0]) || name[0] == '_') && !name.EndsWith('.') && !name.Contains("..")
            && name.All(c => char.IsLetterOrDigit(c) || c is '_' or '.');
        return plain ? name : $"`{name}`";
    }
}
