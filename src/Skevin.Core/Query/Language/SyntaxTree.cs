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

/// <summary>A source and its steps.</summary>
public sealed record Enquiry(MetricSource Source, IReadOnlyList<Step> Steps);

/// <summary>A metric, by name.</summary>
public sealed record MetricSource(string Name, Position At);

/// <summary>One step of an enquiry.</summary>
public abstract record Step(Position At);

/// <summary><c>where</c>: keeps what matches.</summary>
public sealed record WhereStep(Predicate Predicate, Position At) : Step(At);

/// <summary><c>rate</c> or <c>rise</c> of a counter.</summary>
public sealed record RiseStep(bool PerSecond, TimeSpan? Every, Position At) : Step(At);

/// <summary>A function across series, by groups.</summary>
public sealed record AggregateStep(Aggregate Function, Grouping? Grouping, TimeSpan? Every, Position At) : Step(At);

/// <summary><c>highest n</c> or <c>lowest n</c>, by a function over the window.</summary>
public sealed record RankStep(bool Highest, int Count, Aggregate By, Position At) : Step(At);

/// <summary>Functions across series, and over the window for ranking.</summary>
public enum Aggregate
{
    /// <summary>How many series have a value.</summary>
    Count,

    /// <summary>Their sum.</summary>
    Sum,

    /// <summary>Their mean.</summary>
    Mean,

    /// <summary>The least.</summary>
    Min,

    /// <summary>The greatest.</summary>
    Max,
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
