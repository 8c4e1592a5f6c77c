using Skevin.Core.Query.Check;
using Skevin.Core.Query.Language;

namespace Skevin.Core.Query.Run;

/// <summary>A row a step has made.</summary>
internal sealed class MadeRow(IReadOnlyDictionary<string, FieldValue> values, long milliseconds, double weight = 1) : IRow
{
    public long Milliseconds => milliseconds;

    public double Weight => weight;

    public FieldValue this[string field] => values.GetValueOrDefault(field);

    public IEnumerable<string> Fields => values.Keys;
}

/// <summary>Rows on their way through the steps.</summary>
/// <param name="Schema">What is known of their fields.</param>
/// <param name="View">How they are best looked at, see <see cref="AnswerRows"/>.</param>
/// <param name="Columns">What is shown of them.</param>
internal sealed record RowTable(RowSchema Schema, string View, IReadOnlyList<AnswerColumn> Columns, IReadOnlyList<IRow> Rows)
{
    /// <summary>Rows of a kind with all their columns.</summary>
    public static RowTable Of(RowSchema schema, IReadOnlyList<IRow> rows) =>
        new(schema, schema.Kind.ToString().ToLowerInvariant(), [.. RowFields.Of(schema.Kind).Select(column => new AnswerColumn(column.Name, column.Unit))], rows);

    /// <summary>Rows a step made.</summary>
    public static RowTable Made(RowKind kind, string view, IReadOnlyList<AnswerColumn> columns, IReadOnlyList<IRow> rows) => new(RowSchema.Of(kind, columns), view, columns, rows);

    /// <summary>Takes one step that leaves rows.</summary>
    public RowTable Take(int number, Step step, List<Note> notes)
    {
        switch (step)
        {
            case WhereStep or ParseStep or SetStep:
                var steps = new RowSteps(Schema, [step]);
                var kept = Rows.Select(steps.Take).OfType<IRow>().ToArray();
                notes.AddRange(steps.Notes(number));
                if (kept.Length == 0 && Rows.Count > 0)
                    notes.AddRange(NothingLeft.Explain(number, ((WhereStep)step).Predicate, Rows, "row"));
                return (this with { Schema = steps.Schema, Rows = kept }).Showing(step, kept);
            case ShowStep show:
                return this with { View = View is "logs" or "events" && show.Fields.Contains("text") ? View : "table", Columns = [.. show.Fields.Select(field => new AnswerColumn(field, UnitOf(field)))] };
            case OrderStep order:
                var byValue = Comparer<FieldValue>.Create(Compare);
                return this with { Rows = [.. order.Down ? Rows.OrderByDescending(row => row[order.Field], byValue) : Rows.OrderBy(row => row[order.Field], byValue)] };
            case FirstStep first:
                return this with { Rows = [.. Rows.Take(first.Count)] };
            default:
                var word = Formatter.Write(step).Split(' ')[0];
                throw new EnquiryException(new(step.At.Line, step.At.Column, word, $"'{word}' takes series, but these are rows.", word is "rate" or "rise" ? "count" : "count -> " + word));
        }
    }

    /// <summary>With columns for the fields a step made.</summary>
    public RowTable Showing(Step step, IEnumerable<IRow> rows)
    {
        IEnumerable<string> made = step switch
        {
            SetStep set => [set.Name],
            ParseStep { Pattern: { } pattern } => TextPattern.Compile(pattern).Fields.Select(field => field.Name),
            ParseStep => rows.Take(100).OfType<ExtendedRow>().SelectMany(row => row.Added).Distinct().Take(20),
            _ => [],
        };
        return this with { Columns = [.. Columns, .. made.Where(name => Columns.All(column => column.Name != name)).Select(name => new AnswerColumn(name, UnitOf(name)))] };
    }

    /// <summary>The rows as the answer gives them.</summary>
    public AnswerRows Finish() => new(View, Columns, [.. Rows.Select(row => Columns.Select(column => Plain(row[column.Name])).ToArray())]);

    private string UnitOf(string field) => Columns.FirstOrDefault(column => column.Name == field)?.Unit ?? Schema.UnitOf(field) ?? "";

    private static object? Plain(FieldValue value) => value.IsNumber ? value.Number : value.Text;

    // What is absent comes last in rising order.
    private static int Compare(FieldValue a, FieldValue b) =>
        !a.Exists || !b.Exists ? b.Exists.CompareTo(a.Exists)
        : a.AsNumber is var x && b.AsNumber is var y && !double.IsNaN(x) && !double.IsNaN(y) ? x.CompareTo(y)
        : string.CompareOrdinal(a.AsText, b.AsText);
}

/// <summary>Conditions over rows.</summary>
internal static class RowConditions
{
    private static readonly string[] Ends = ["namespace", "workload", "pod", "k8s.namespace.name", "k8s.pod.name"];

    /// <summary>A condition as it applies to a kind: a flow has two ends, and a bare <c>namespace</c> means either.</summary>
    public static Predicate Fit(RowKind kind, Predicate predicate) => kind != RowKind.Flows ? predicate : predicate switch
    {
        NotPredicate not => new NotPredicate(Fit(kind, not.Inner)),
        AndPredicate and => new AndPredicate(Fit(kind, and.Left), Fit(kind, and.Right)),
        OrPredicate or => new OrPredicate(Fit(kind, or.Left), Fit(kind, or.Right)),
        FieldPredicate field when Ends.Contains(field.Field) => Either(field),
        _ => predicate,
    };

    /// <summary>Checks that quantities have the dimension of the fields they are compared with.</summary>
    /// <exception cref="EnquiryException">One has not; shows the likely spelling.</exception>
    public static void CheckUnits(RowSchema schema, Predicate predicate)
    {
        switch (predicate)
        {
            case NotPredicate not:
                CheckUnits(schema, not.Inner);
                break;
            case AndPredicate and:
                CheckUnits(schema, and.Left);
                CheckUnits(schema, and.Right);
                break;
            case OrPredicate or:
                CheckUnits(schema, or.Left);
                CheckUnits(schema, or.Right);
                break;
            case FieldPredicate field when schema.UnitOf(field.Field) is { } unit and not "time":
                foreach (var value in field.Values.OfType<NumberValue>().Where(value => value.Suffix.Length > 0))
                {
                    if (!Units.Suffixes.TryGetValue(value.Suffix, out var known))
                        throw new EnquiryException(new(field.At.Line, field.At.Column, field.Field, $"'{value.Suffix}' is not a known unit.", null));
                    if (known.Unit != unit)
                        throw new EnquiryException(new(field.At.Line, field.At.Column, field.Field, $"{field.Field} is in {unit}, but it is compared with a quantity in {known.Unit}.",
                            Units.Suffixes.FirstOrDefault(pair => pair.Value.Unit == unit).Key is { } likely ? $"{field.Field} > {value.Number.ToString(System.Globalization.CultureInfo.InvariantCulture)}{(unit == "s" ? "ms" : likely)}" : null));
                }
                break;
        }
    }

    /// <summary>Words and the trace every row that fulfils these conditions must hold.</summary>
    public static RowHints Hints(IEnumerable<Predicate> conditions)
    {
        var words = new List<string>();
        string? trace = null;
        foreach (var field in conditions.SelectMany(Matching.Conjuncts).OfType<FieldPredicate>())
        {
            if (field.Comparison == Comparison.Says && field.Field == "text")
                words.AddRange(Blocks.WordFilter.Words(((TextValue)field.Values[0]).Text));
            if (field is { Comparison: Comparison.Equal, Values: [TextValue text] } && field.Field is not ("time" or "level" or "span" or "parent"))
            {
                if (field.Field == "trace")
                    trace = text.Text;
                else
                    words.AddRange(Blocks.WordFilter.Words(text.Text));
            }
        }
        return new RowHints(words, trace);
    }

    private static Predicate Either(FieldPredicate field)
    {
        var end = field.Field.EndsWith("namespace.name", StringComparison.Ordinal) ? "namespace" : field.Field.EndsWith("pod.name", StringComparison.Ordinal) ? "pod" : field.Field;
        var (source, destination) = end == "workload" ? ("source", "destination") : ($"source.{end}", $"destination.{end}");
        Predicate one = field with { Field = source }, other = field with { Field = destination };
        return field.Comparison == Comparison.NotEqual ? new AndPredicate(one, other) : new OrPredicate(one, other);
    }
}
