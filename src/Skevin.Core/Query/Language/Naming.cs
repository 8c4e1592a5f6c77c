namespace Skevin.Core.Query.Language;

/// <summary>The names an enquiry takes from what was collected: of metrics and of fields. One walk over the tree lists and replaces them.</summary>
public static class Naming
{
    /// <summary>The same enquiry under other names.</summary>
    /// <param name="enquiry">The tree.</param>
    /// <param name="metric">Metric → its name here.</param>
    /// <param name="field">Source and field → the field's name here. The source is a metric's name before it was replaced or the word for rows; empty behind a formula. Fields the enquiry makes itself are not asked for.</param>
    public static Enquiry Renamed(Enquiry enquiry, Func<string, string> metric, Func<string, string, string> field) =>
        new([.. enquiry.Parts.Select(part => part with { Body = Renamed(part.Body, metric, field) })]);

    /// <summary>The word a body begins with: a metric, or the word for rows; empty for a formula.</summary>
    public static string SourceOf(Body body) => body.Source switch
    {
        MetricSource metric => metric.Name,
        RowSource rows => Words.RowSources.First(pair => pair.Value == rows.Kind).Key,
        _ => "",
    };

    private static Body Renamed(Body body, Func<string, string> metric, Func<string, string, string> field)
    {
        var source = SourceOf(body);
        // What json brings along is not known, so every field behind it may be its own.
        var (made, any) = (new HashSet<string>(), false);
        string Field(string name) => any || made.Contains(name) ? name : field(source, name);
        var steps = new List<Step>();
        foreach (var step in body.Steps)
        {
            steps.Add(Renamed(step, Field));
            if (step is SetStep set)
                made.Add(set.Name);
            if (step is ParseStep { Pattern: { } pattern })
                made.UnionWith(TextPattern.Compile(pattern).Fields.Select(one => one.Name));
            any |= step is ParseStep { Pattern: null };
            // From here on rows have columns of another kind: a count, a share, the ends of a call.
            any |= step is KindsStep or TracesStep or GraphStep or DifferStep;
        }
        return new Body(body.Source is MetricSource named ? named with { Name = metric(named.Name) } : body.Source, steps);
    }

    private static Step Renamed(Step step, Func<string, string> field) => step switch
    {
        WhereStep where => where with { Predicate = Renamed(where.Predicate, field) },
        DifferStep differ => differ with { Predicate = Renamed(differ.Predicate, field) },
        AggregateStep aggregate => aggregate with
        {
            Field = aggregate.Field is { } over ? field(over) : null,
            Grouping = aggregate.Grouping is { } grouping ? grouping with { Fields = [.. grouping.Fields.Select(field)] } : null,
        },
        ShowStep show => show with { Fields = [.. show.Fields.Select(field)] },
        OrderStep order => order with { Field = field(order.Field) },
        ParseStep { From: { } from } parse => parse with { From = field(from) },
        SetStep set => set with { Expression = Renamed(set.Expression, field) },
        _ => step,
    };

    private static Predicate Renamed(Predicate predicate, Func<string, string> field) => predicate switch
    {
        NotPredicate not => new NotPredicate(Renamed(not.Inner, field)),
        AndPredicate and => new AndPredicate(Renamed(and.Left, field), Renamed(and.Right, field)),
        OrPredicate or => new OrPredicate(Renamed(or.Left, field), Renamed(or.Right, field)),
        FieldPredicate one => one with { Field = field(one.Field) },
        _ => predicate,
    };

    private static Formula Renamed(Formula formula, Func<string, string> field) => formula switch
    {
        NamedFormula named => named with { Name = field(named.Name) },
        JoinedFormula joined => joined with { Left = Renamed(joined.Left, field), Right = Renamed(joined.Right, field) },
        _ => formula,
    };
}
