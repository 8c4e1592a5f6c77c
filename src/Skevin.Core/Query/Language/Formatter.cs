using System.Globalization;

namespace Skevin.Core.Query.Language;

/// <summary>Tree → text, one step a line. Parsing what it wrote gives the same tree.</summary>
public static class Formatter
{
    /// <summary>The whole enquiry, a part a paragraph.</summary>
    public static string Write(Enquiry enquiry) => string.Join("\n", enquiry.Parts.Select(part =>
        (part.Name is null ? "" : Name(part.Name) + ": ") + string.Join("\n", part.Body.Steps.Select(step => "  -> " + Write(step)).Prepend(Write(part.Body.Source)))));

    /// <summary>A source.</summary>
    public static string Write(Source source) => source switch
    {
        MetricSource metric => Words.RowSources.ContainsKey(metric.Name) ? $"`{metric.Name}`" : Name(metric.Name),
        RowSource rows => rows.Kind.ToString().ToLowerInvariant(),
        FormulaSource formula => Write(formula.Formula, 0),
        _ => throw new InvalidOperationException("A source without a written form."),
    };

    // Levels: 0 sum, 1 product, 2 factor. A right operand of the same level keeps its brackets, so that the tree stays the same.
    private static string Write(Formula formula, int level) => formula switch
    {
        NamedFormula named => Name(named.Name),
        TextFormula text => Write(new TextValue(text.Text)),
        NumberFormula number => number.Number.ToString("R", CultureInfo.InvariantCulture) + number.Suffix,
        JoinedFormula { Operator: '<' or '>' } one => $"{(one.Operator == '<' ? "least" : "greatest")}({Write(one.Left, 0)}, {Write(one.Right, 0)})",
        JoinedFormula { Operator: '+' or '-' } sum => Bracketed($"{Write(sum.Left, 0)} {sum.Operator} {Write(sum.Right, 1)}", level > 0),
        JoinedFormula product => Bracketed($"{Write(product.Left, 1)} {product.Operator} {Write(product.Right, 2)}", level > 1),
        _ => throw new InvalidOperationException("A formula without a written form."),
    };

    private static string Bracketed(string text, bool brackets) => brackets ? $"({text})" : text;

    /// <summary>One step, without its arrow.</summary>
    public static string Write(Step step) => step switch
    {
        WhereStep where => "where " + Write(where.Predicate, 0),
        RiseStep rise => (rise.PerSecond ? "rate" : "rise") + Every(rise.Every),
        AggregateStep aggregate => aggregate.Function + (aggregate.Field is { } field ? " " + FieldName(field) : "") + Write(aggregate.Grouping) + Every(aggregate.Every),
        RankStep rank => $"{(rank.Highest ? "highest" : "lowest")} {rank.Count}"
            + (rank.By.Kind == FunctionKind.Mean ? "" : " by " + rank.By),
        ChangeStep change => "change" + Every(change.Every),
        OverStep over => $"over {Units.Write(over.Stretch)} {over.Function}",
        GapsStep gaps => gaps.Hold ? "gaps hold" : "gaps zero",
        ShiftStep shift => "shift " + Units.Write(shift.By),
        ParseStep parse => "parse " + (parse.Pattern is { } pattern ? Write(new TextValue(pattern)) : "json") + (parse.From is { } field ? " from " + Name(field) : ""),
        SetStep set => $"set {Name(set.Name)} = {Write(set.Expression, 0)}",
        KindsStep => "kinds",
        DifferStep differ => "differ where " + Write(differ.Predicate, 0),
        ShowStep show => "show " + string.Join(", ", show.Fields.Select(Name)),
        OrderStep order => "order " + Name(order.Field) + (order.Down ? " down" : ""),
        FirstStep first => "first " + first.Count.ToString(CultureInfo.InvariantCulture),
        UnitStep unit => "as " + (unit.Unit == "percent" || Units.Suffixes.ContainsKey(unit.Unit) && char.IsLetter(unit.Unit[0]) ? unit.Unit : $"`{unit.Unit}`"),
        TracesStep => "traces",
        GraphStep graph => graph.Addresses ? "graph addresses" : "graph",
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
            Comparison.Says => $"{name} says {Write(field.Values[0])}",
            Comparison.Inside => $"{name} inside {((TextValue)field.Values[0]).Text}",
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

    // Behind a function, a field named like a word of the grammar would be taken for it.
    private static string FieldName(string name) => name is "by" or "except" or "every" ? $"`{name}`" : Name(name);

    /// <summary>A name, in backquotes where it would not read as one.</summary>
    public static string Name(string name)
    {
        var plain = name.Length > 0 && (char.IsLetter(name[0]) || name[0] == '_') && !name.EndsWith('.') && !name.Contains("..")
            && name.All(c => char.IsLetterOrDigit(c) || c is '_' or '.');
        return plain ? name : $"`{name}`";
    }
}
