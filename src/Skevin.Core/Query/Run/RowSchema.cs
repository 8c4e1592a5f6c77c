using System.Collections.Immutable;

namespace Skevin.Core.Query.Run;

/// <summary>What is known of the fields of rows on their way.</summary>
/// <param name="Kind">What they were read as.</param>
/// <param name="Made">UCUM units of fields that steps made; empty for text.</param>
internal sealed record RowSchema(RowKind Kind, ImmutableDictionary<string, string> Made)
{
    public static RowSchema Of(RowKind kind) => new(kind, ImmutableDictionary<string, string>.Empty);

    /// <summary>Rows a step made, known by their columns alone.</summary>
    public static RowSchema Of(RowKind kind, IEnumerable<AnswerColumn> columns) => new(kind, columns.ToImmutableDictionary(column => column.Name, column => column.Unit));

    /// <summary>The unit of a field's numbers; null where it holds text or nothing is known of it.</summary>
    public string? UnitOf(string field) => Made.TryGetValue(field, out var unit) ? unit.Length > 0 ? unit : null : RowFields.UnitOf(Kind, field);

    public RowSchema With(string field, string unit) => this with { Made = Made.SetItem(field, unit) };
}

/// <summary>A row with fields that a step added; they stand before its own.</summary>
internal sealed class ExtendedRow(IRow row, IReadOnlyDictionary<string, FieldValue> added) : IRow
{
    public long Milliseconds => row.Milliseconds;

    public double Weight => row.Weight;

    public FieldValue this[string field] => added.TryGetValue(field, out var value) ? value : row[field];

    public IEnumerable<string> Fields => row.Fields.Concat(added.Keys).Distinct();

    /// <summary>The row as it was read.</summary>
    public static IRow Origin(IRow row) => row is ExtendedRow extended ? Origin(extended.Read) : row;

    private IRow Read => row;

    /// <summary>Names of what was added by this step and those before it.</summary>
    public IEnumerable<string> Added => row is ExtendedRow before ? before.Added.Concat(added.Keys) : added.Keys;
}
