using Skevin.Core.Query.Run;

namespace Skevin.Core.Query.Language;

/// <summary>Where something stands in the text. All positions are equal, so that trees compare by meaning alone.</summary>
/// <param name="Offset">Characters from the start.</param>
/// <param name="Line">From 1.</param>
/// <param name="Column">From 1.</param>
public readonly record struct Position(int Offset, int Line, int Column)
{
    /// <summary>Always true: see the type.</summary>
    public bool Equals(Position other) => true;

    /// <inheritdoc/>
    public override int GetHashCode() => 0;
}

/// <summary>An enquiry: one or several bodies, the last of which is answered.</summary>
public sealed record Enquiry(IReadOnlyList<Part> Parts)
{
    /// <summary>An enquiry of one body.</summary>
    public Enquiry(Source source, IReadOnlyList<Step> steps)
        : this([new Part(null, new Body(source, steps), default)])
    {
    }

    /// <summary>The body that is answered.</summary>
    public Body Answered => Parts[^1].Body;

    /// <summary>Steps of all bodies.</summary>
    public IEnumerable<Step> AllSteps => Parts.SelectMany(part => part.Body.Steps);
}

/// <summary>A body with the name by which formulas call it; null where it has none.</summary>
public sealed record Part(string? Name, Body Body, Position At);

/// <summary>A source and its steps.</summary>
public sealed record Body(Source Source, IReadOnlyList<Step> Steps);

/// <summary>What a body begins with.</summary>
public abstract record Source(Position At);

/// <summary>A metric, by name.</summary>
public sealed record MetricSource(string Name, Position At) : Source(At);

/// <summary>Log lines, spans, flows or events.</summary>
public sealed record RowSource(RowKind Kind, Position At) : Source(At);

/// <summary>Arithmetic over other parts.</summary>
public sealed record FormulaSource(Formula Formula, Position At) : Source(At);

/// <summary>Arithmetic over names and numbers.</summary>
public abstract record Formula;

/// <summary>A part by its name, or in <c>set</c> a field by its own.</summary>
public sealed record NamedFormula(string Name, Position At) : Formula;

/// <summary>A text, in <c>set</c> only.</summary>
public sealed record TextFormula(string Text, Position At) : Formula;

/// <summary>A number with a unit suffix.</summary>
public sealed record NumberFormula(double Number, string Suffix) : Formula;

/// <summary>Two formulas joined by <c>+ - * /</c>, or the lesser or greater of both: <c>least(a, b)</c> and <c>greatest(a, b)</c>, written here as <c>&lt;</c> and <c>&gt;</c>.</summary>
public sealed record JoinedFormula(Formula Left, char Operator, Formula Right, Position At) : Formula
{
    /// <summary>The functions that join two formulas, with the sign they have as an operator.</summary>
    public static readonly IReadOnlyDictionary<string, char> Functions = new Dictionary<string, char> { ["least"] = '<', ["greatest"] = '>' };

    /// <summary>Joins two numbers; NaN where either is.</summary>
    public static double Join(double left, char sign, double right) => sign switch { '+' => left + right, '-' => left - right, '*' => left * right, '<' => Math.Min(left, right), '>' => Math.Max(left, right), _ => left / right };
}

/// <summary>One step of an enquiry.</summary>
public abstract record Step(Position At);

/// <summary><c>where</c>: keeps what matches.</summary>
public sealed record WhereStep(Predicate Predicate, Position At) : Step(At);

/// <summary><c>rate</c> or <c>rise</c> of a counter.</summary>
public sealed record RiseStep(bool PerSecond, TimeSpan? Every, Position At) : Step(At);

/// <summary><c>change</c>: the last value in the slot minus the last before it.</summary>
public sealed record ChangeStep(TimeSpan? Every, Position At) : Step(At);

/// <summary><c>over</c>: a function over the trailing stretch of time.</summary>
public sealed record OverStep(TimeSpan Stretch, Function Function, Position At) : Step(At);

/// <summary><c>gaps</c>: what stands in empty slots: zero, or the value before.</summary>
public sealed record GapsStep(bool Hold, Position At) : Step(At);

/// <summary><c>shift</c>: what was that much earlier, laid over now.</summary>
public sealed record ShiftStep(TimeSpan By, Position At) : Step(At);

/// <summary><c>parse</c>: makes fields of a text.</summary>
/// <param name="Pattern">Literal text with names in braces; null for JSON.</param>
/// <param name="From">The field that is read; null for <c>text</c>.</param>
public sealed record ParseStep(string? Pattern, string? From, Position At) : Step(At);

/// <summary><c>set</c>: a field computed from others.</summary>
public sealed record SetStep(string Name, Formula Expression, Position At) : Step(At);

/// <summary><c>kinds</c>: lines grouped by template.</summary>
public sealed record KindsStep(Position At) : Step(At);

/// <summary><c>differ where</c>: what is more frequent among the rows that fulfil the condition.</summary>
public sealed record DifferStep(Predicate Predicate, Position At) : Step(At);

/// <summary>A function across series or rows, by groups.</summary>
/// <param name="Field">Field of the rows it is taken over; null for series and for counting rows.</param>
public sealed record AggregateStep(Function Function, string? Field, Grouping? Grouping, TimeSpan? Every, Position At) : Step(At);

/// <summary><c>highest n</c> or <c>lowest n</c>, by a function over the window.</summary>
public sealed record RankStep(bool Highest, int Count, Function By, Position At) : Step(At);

/// <summary><c>show</c>: the fields that are kept, in order.</summary>
public sealed record ShowStep(IReadOnlyList<string> Fields, Position At) : Step(At);

/// <summary><c>order</c>: rows by a field.</summary>
public sealed record OrderStep(string Field, bool Down, Position At) : Step(At);

/// <summary><c>first n</c>: so many rows.</summary>
public sealed record FirstStep(int Count, Position At) : Step(At);

/// <summary><c>as</c>: the unit values are given in.</summary>
public sealed record UnitStep(string Unit, Position At) : Step(At);

/// <summary><c>traces</c>: one row a trace.</summary>
public sealed record TracesStep(Position At) : Step(At);

/// <summary><c>graph</c>: one row for each pair that talks.</summary>
/// <param name="Addresses">Whether ends stand as raw addresses.</param>
public sealed record GraphStep(bool Addresses, Position At) : Step(At);

/// <summary>A function over several values.</summary>
/// <param name="Kind">Which.</param>
/// <param name="Quantile">For <see cref="FunctionKind.Quantile"/>: its percentage, 0 to 100.</param>
public readonly record struct Function(FunctionKind Kind, double Quantile = 0)
{
    /// <summary>How it is written.</summary>
    public override string ToString() => Kind == FunctionKind.Quantile
        ? "p" + Quantile.ToString("R", System.Globalization.CultureInfo.InvariantCulture)
        : Words.NameOf(Kind);
}

/// <summary>Kinds of function.</summary>
public enum FunctionKind
{
    /// <summary>How many.</summary>
    Count,

    /// <summary>Their sum.</summary>
    Sum,

    /// <summary>Their mean.</summary>
    Mean,

    /// <summary>The least.</summary>
    Min,

    /// <summary>The greatest.</summary>
    Max,

    /// <summary>How many different ones.</summary>
    Distinct,

    /// <summary>Their standard deviation, as of a sample (n − 1).</summary>
    StandardDeviation,

    /// <summary>The first in time.</summary>
    First,

    /// <summary>The last in time.</summary>
    Last,

    /// <summary>A quantile, see <see cref="Function.Quantile"/>.</summary>
    Quantile,
}

/// <summary>Fields to group by, or to leave out.</summary>
public sealed record Grouping(bool Except, IReadOnlyList<string> Fields);

/// <summary>A condition.</summary>
public abstract record Predicate;

/// <summary>The opposite.</summary>
public sealed record NotPredicate(Predicate Inner) : Predicate;

/// <summary>Both.</summary>
public sealed record AndPredicate(Predicate Left, Predicate Right) : Predicate;

/// <summary>Either.</summary>
public sealed record OrPredicate(Predicate Left, Predicate Right) : Predicate;

/// <summary>Ways to compare a field with values.</summary>
public enum Comparison
{
    /// <summary><c>=</c></summary>
    Equal,

    /// <summary><c>!=</c></summary>
    NotEqual,

    /// <summary><c>&lt;</c></summary>
    Less,

    /// <summary><c>&lt;=</c></summary>
    LessOrEqual,

    /// <summary><c>&gt;</c></summary>
    Greater,

    /// <summary><c>&gt;=</c></summary>
    GreaterOrEqual,

    /// <summary><c>in (…)</c></summary>
    In,

    /// <summary><c>like</c>, with SQL's <c>%</c> and <c>_</c></summary>
    Like,

    /// <summary><c>matches</c>, a linear-time regular expression</summary>
    Matches,

    /// <summary><c>says</c>: whole words, any case, one behind the other</summary>
    Says,

    /// <summary><c>inside</c>: an address in a network</summary>
    Inside,

    /// <summary><c>exists</c></summary>
    Exists,
}

/// <summary>A field compared with one or several values.</summary>
public sealed record FieldPredicate(string Field, Comparison Comparison, IReadOnlyList<Value> Values, Position At) : Predicate;

/// <summary>A literal: text, or a number with a unit suffix.</summary>
public abstract record Value;

/// <summary>Text in double quotes.</summary>
public sealed record TextValue(string Text) : Value;

/// <summary>A number and its suffix, empty without one.</summary>
public sealed record NumberValue(double Number, string Suffix) : Value;

/// <summary>What is wrong with an enquiry, where, and what may have been meant.</summary>
/// <param name="Line">From 1.</param>
/// <param name="Column">From 1.</param>
/// <param name="Word">The offending word, empty at the end of the text.</param>
/// <param name="Message">What was wrong and what was expected.</param>
/// <param name="Suggestion">What to write instead, or null.</param>
public sealed record EnquiryError(int Line, int Column, string Word, string Message, string? Suggestion);

/// <summary>Carries an <see cref="EnquiryError"/> to the door of parser and runner.</summary>
public sealed class EnquiryException(EnquiryError error) : Exception(error.Message)
{
    /// <summary>The error.</summary>
    public EnquiryError Error { get; } = error;
}
