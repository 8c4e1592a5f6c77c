using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Core.Logs;

/// <summary>How grave a line is. Numbers: OpenTelemetry logs data model, "Displaying Severity".</summary>
public enum LogLevel : byte
{
    /// <summary>The line does not say.</summary>
    None = 0,

    /// <summary>Every step.</summary>
    Trace = 1,

    /// <summary>For whoever looks for a fault.</summary>
    Debug = 5,

    /// <summary>As it should be.</summary>
    Info = 9,

    /// <summary>May become trouble.</summary>
    Warn = 13,

    /// <summary>Something failed.</summary>
    Error = 17,

    /// <summary>The program cannot go on.</summary>
    Fatal = 21,
}

/// <summary>A log line, or an event of the cluster.</summary>
/// <param name="Time">Nanoseconds since the epoch.</param>
/// <param name="Level">How grave.</param>
/// <param name="Text">What it says.</param>
/// <param name="Resource">Where it comes from.</param>
/// <param name="Attributes">Its own fields.</param>
/// <param name="Trace">The trace it belongs to; empty where it does not say.</param>
/// <param name="Span">The span, 0 where it does not say.</param>
public sealed record LogLine(long Time, LogLevel Level, string Text, Labels Resource, Labels Attributes, TraceId Trace, ulong Span) : IRow
{
    /// <inheritdoc/>
    public long Milliseconds => IRow.Stamp(Time);

    /// <inheritdoc/>
    public double Weight => 1;

    /// <inheritdoc/>
    public FieldValue this[string field] => field switch
    {
        "time" => FieldValue.Of(Milliseconds),
        "level" => Level == LogLevel.None ? FieldValue.Absent : FieldValue.Of(LogLevels.Word(Level)),
        "text" => FieldValue.Of(Text),
        "trace" => Trace.IsEmpty ? FieldValue.Absent : FieldValue.Of(Trace.ToString()),
        "span" => Span == 0 ? FieldValue.Absent : FieldValue.Of(TraceId.SpanText(Span)),
        "reason" when Attributes["k8s.event.reason"] is { } reason => FieldValue.Of(reason),
        "object" when Attributes["k8s.event.object"] is { } about => FieldValue.Of(about),
        _ => FieldValue.Of(FieldNames.Value(Attributes, field) ?? FieldNames.Value(Resource, field) ?? (field == "kind" ? LineKinds.Shape(Text) : null)),
    };

    /// <inheritdoc/>
    public IEnumerable<string> Fields => Attributes.Concat(Resource).Select(pair => pair.Key);
}

/// <summary>Words for levels.</summary>
public static class LogLevels
{
    /// <summary>trace, debug, info, warn, error or fatal; empty where there is none.</summary>
    public static string Word(LogLevel level) => level == LogLevel.None ? "" : level.ToString().ToLowerInvariant();

    /// <summary>The level a severity number falls into. Source: OpenTelemetry logs data model, ranges of four.</summary>
    public static LogLevel OfNumber(int severity) => severity is < 1 or > 24 ? LogLevel.None : (LogLevel)((severity - 1) / 4 * 4 + 1);

    /// <summary>The level a word names, whatever its letter case. The words are common practice, no source.</summary>
    public static LogLevel OfWord(ReadOnlySpan<char> word)
    {
        if (word.Length is < 3 or > 11)
            return LogLevel.None;
        Span<char> lower = stackalloc char[word.Length];
        word.ToLowerInvariant(lower);
        return lower switch
        {
            "trace" or "verbose" => LogLevel.Trace,
            "debug" or "dbg" => LogLevel.Debug,
            "info" or "inf" or "information" or "notice" => LogLevel.Info,
            "warn" or "wrn" or "warning" => LogLevel.Warn,
            "error" or "err" or "eror" => LogLevel.Error,
            "fatal" or "ftl" or "critical" or "crit" or "panic" or "emerg" or "alert" => LogLevel.Fatal,
            _ => LogLevel.None,
        };
    }
}
