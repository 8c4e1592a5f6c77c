using System.Globalization;

namespace Skevin.Core.Query.Run;

/// <summary>What a row holds under a field: text, or a number in the field's unit, or nothing.</summary>
public readonly record struct FieldValue
{
    /// <summary>Nothing.</summary>
    public static FieldValue Absent => default;

    private FieldValue(string? text, double number, bool isNumber) => (Text, Number, IsNumber) = (text, number, isNumber);

    /// <summary>The text; null for a number and for nothing.</summary>
    public string? Text { get; }

    /// <summary>The number.</summary>
    public double Number { get; }

    /// <summary>Whether it is a number.</summary>
    public bool IsNumber { get; }

    /// <summary>Whether there is anything.</summary>
    public bool Exists => IsNumber || Text is not null;

    /// <summary>A text; null is nothing.</summary>
    public static FieldValue Of(string? text) => new(text, 0, false);

    /// <summary>A number.</summary>
    public static FieldValue Of(double number) => double.IsNaN(number) ? default : new(null, number, true);

    /// <summary>As text, numbers in their shortest exact form; null for nothing.</summary>
    public string? AsText => IsNumber ? Number.ToString("R", CultureInfo.InvariantCulture) : Text;

    /// <summary>As a number; attributes come as text, so text that is a number counts. NaN where it is none.</summary>
    public double AsNumber => IsNumber ? Number
        : Text is not null && double.TryParse(Text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) ? number : double.NaN;
}

/// <summary>A row: a log line, a span, flows of a minute, or what a step made of them.</summary>
public interface IRow
{
    /// <summary>Its time, epoch milliseconds.</summary>
    long Milliseconds { get; }

    /// <summary>Epoch milliseconds of a time in nanoseconds, rounded up: what came after a slot's begin by less than a millisecond is in that slot, not in the one before.</summary>
    static long Stamp(long nanoseconds) => (nanoseconds + 999_999) / 1_000_000;

    /// <summary>How many it stands for: 1, the weight of a sampled span, or the count of flows.</summary>
    double Weight { get; }

    /// <summary>How many rows of the store it is: 1, or more where they were counted without being made.</summary>
    long Rows => 1;

    /// <summary>What it holds under a field, by the semantic conventions' names and the short ones.</summary>
    FieldValue this[string field] { get; }

    /// <summary>Names of the attributes it has beside the fields of its kind.</summary>
    IEnumerable<string> Fields { get; }
}

/// <summary>A row whose text can be searched before it is made.</summary>
public interface ISearchedRow : IRow
{
    /// <summary>False where the row's <c>text</c> surely does not have this in it, in any case.</summary>
    /// <param name="lower">ASCII in lower case.</param>
    bool MayHave(string lower);
}

/// <summary>Kinds of row an enquiry can begin with.</summary>
public enum RowKind
{
    /// <summary>Log lines.</summary>
    Logs,

    /// <summary>Spans.</summary>
    Spans,

    /// <summary>Flows by minute.</summary>
    Flows,

    /// <summary>Events of the cluster.</summary>
    Events,

    /// <summary>What alarms did: raised, cleared.</summary>
    Alarms,
}

/// <summary>The fields every row of a kind has, and their units.</summary>
public static class RowFields
{
    /// <summary>Fields in the order they are shown, with UCUM units; empty for text, <c>time</c> for moments.</summary>
    public static IReadOnlyList<(string Name, string Unit)> Of(RowKind kind) => kind switch
    {
        RowKind.Logs => [("time", "time"), ("level", ""), ("namespace", ""), ("pod", ""), ("container", ""), ("text", ""), ("trace", ""), ("span", "")],
        RowKind.Spans =>
        [
            ("time", "time"), ("service", ""), ("name", ""), ("kind", ""), ("duration", "s"), ("status", ""), ("namespace", ""), ("pod", ""), ("trace", ""), ("span", ""), ("parent", ""),
        ],
        RowKind.Flows =>
        [
            ("time", "time"), ("source", ""), ("source.address", ""), ("source.port", ""), ("source.namespace", ""), ("destination", ""), ("destination.address", ""), ("destination.namespace", ""), ("destination.port", ""),
            ("protocol", ""), ("family", ""), ("flags", ""), ("outcome", ""), ("reason", ""), ("request", ""), ("node", ""), ("flows", "{flow}"), ("packets", "{packet}"), ("bytes", "By"),
        ],
        RowKind.Alarms => [("time", "time"), ("rule", ""), ("change", ""), ("severity", ""), ("namespace", ""), ("value", ""), ("unit", ""), ("labels", "")],
        _ => [("time", "time"), ("level", ""), ("reason", ""), ("namespace", ""), ("object", ""), ("text", "")],
    };

    /// <summary>Fields that hold numbers: their UCUM unit; null for text.</summary>
    public static string? UnitOf(RowKind kind, string field) =>
        Of(kind).FirstOrDefault(known => known.Name == field).Unit is { Length: > 0 } unit ? unit : kind == RowKind.Flows && field == "duration" ? "s" : null;
}

/// <summary>What lets a reader pass over blocks without opening them.</summary>
/// <param name="Words">Words every wanted row holds somewhere, in lower case.</param>
/// <param name="Trace">The one trace that is wanted, or null.</param>
/// <param name="Counted">Only how many rows there are in each minute is wanted, and nothing but these fields is looked at; null where more is.</param>
/// <param name="Sketched">Spans may come as sketches of their durations by minute.</param>
/// <param name="ByTrace">Spans may come summed up by trace, as <see cref="Traces.TracePart"/>.</param>
/// <param name="Single">Flows are wanted one by one, as far as they are kept so.</param>
public sealed record RowHints(IReadOnlyList<string> Words, string? Trace, IReadOnlyCollection<string>? Counted = null, bool Sketched = false, bool Single = false, bool ByTrace = false)
{
    /// <summary>Nothing to go by.</summary>
    public static RowHints None { get; } = new([], null);
}

/// <summary>Rows read together.</summary>
/// <param name="Passed">Rows in the window that the hints let pass unread.</param>
/// <param name="Rows">The others, in any order.</param>
public sealed record RowBatch(long Passed, IReadOnlyList<IRow> Rows);

/// <summary>Where an enquiry finds its rows. An implementation is bound to one reader's access scope.</summary>
public interface IRowReader
{
    /// <summary>Rows with from &lt; time ≤ to.</summary>
    IAsyncEnumerable<RowBatch> Rows(RowKind kind, long from, long to, RowHints hints, CancellationToken stop);

    /// <summary>How many rows there may be at most with from &lt; time ≤ to, as far as that is quickly told; 0 where it is not.</summary>
    Task<long> Most(RowKind kind, long from, long to, CancellationToken stop) => Task.FromResult(0L);

    /// <summary>Single flows are kept from here on; of what is older there are sums by minute. Epoch milliseconds.</summary>
    long SinglesFrom => long.MinValue;

    /// <summary>Minutes since the epoch, of those that touch (from, to], in which the source was arriving.</summary>
    Task<IReadOnlySet<long>> Arriving(RowKind kind, long from, long to, CancellationToken stop);
}
