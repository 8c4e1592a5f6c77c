using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Traces;

/// <summary>What a span did for whom. Numbers: OTLP trace.proto.</summary>
public enum SpanKind : byte
{
    /// <summary>Not said.</summary>
    Unspecified = 0,

    /// <summary>Work inside a workload.</summary>
    Internal = 1,

    /// <summary>Answered a request.</summary>
    Server = 2,

    /// <summary>Waited for another's answer.</summary>
    Client = 3,

    /// <summary>Put a message somewhere.</summary>
    Producer = 4,

    /// <summary>Took a message.</summary>
    Consumer = 5,
}

/// <summary>How a span ended. Numbers: OTLP trace.proto.</summary>
public enum SpanStatus : byte
{
    /// <summary>Not said, which counts as well.</summary>
    Unset = 0,

    /// <summary>Well.</summary>
    Ok = 1,

    /// <summary>It failed.</summary>
    Error = 2,
}

/// <summary>Something noted inside a span, for example an exception.</summary>
/// <param name="Time">Nanoseconds since the epoch.</param>
public sealed record SpanEvent(long Time, string Name, Labels Attributes);

/// <summary>A span.</summary>
/// <param name="Start">Nanoseconds since the epoch.</param>
/// <param name="Duration">Nanoseconds.</param>
/// <param name="Weight">How many spans it stands for: 1 without sampling.</param>
public sealed record Span(
    TraceId Trace, ulong Id, ulong Parent, string Name, SpanKind Kind, long Start, long Duration, SpanStatus Status, string StatusMessage,
    double Weight, Labels Resource, Labels Attributes, IReadOnlyList<SpanEvent> Events) : ISpanRow
{
    SpanPlace ISpanRow.Place => new(Trace, Start, Duration, Parent == 0, Status == SpanStatus.Error);

    string ISpanRow.Title => Name;

    Labels ISpanRow.Origin => Resource;

    /// <summary>The whole span behind a row that was read as one.</summary>
    public static Span Of(IRow row) => row as Span ?? ((SpanRow)row).Span;

    /// <inheritdoc/>
    public long Milliseconds => IRow.Stamp(Start);

    /// <summary>The exception noted in it, or null. Names: semantic conventions, "exceptions on spans".</summary>
    public SpanEvent? Exception => Events.FirstOrDefault(note => note.Name == "exception");

    /// <inheritdoc/>
    public FieldValue this[string field] => field switch
    {
        "time" => FieldValue.Of(Milliseconds),
        "name" => FieldValue.Of(Name),
        "kind" => FieldValue.Of(Kind.ToString().ToLowerInvariant()),
        "duration" => FieldValue.Of(Duration / 1e9),
        "status" => FieldValue.Of(Status.ToString().ToLowerInvariant()),
        "trace" => FieldValue.Of(Trace.ToString()),
        "span" => FieldValue.Of(TraceId.SpanText(Id)),
        "parent" => Parent == 0 ? FieldValue.Absent : FieldValue.Of(TraceId.SpanText(Parent)),
        "message" => FieldValue.Of(StatusMessage.Length > 0 ? StatusMessage : Exception?.Attributes["exception.message"]),
        _ => FieldValue.Of(FieldNames.Value(Attributes, field) ?? FieldNames.Value(Resource, field)
            ?? (field.StartsWith("exception.", StringComparison.Ordinal) ? Exception?.Attributes[field] : null)),
    };

    /// <inheritdoc/>
    public IEnumerable<string> Fields => Attributes.Concat(Resource).Select(pair => pair.Key);
}
