using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Logs.V1;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Core.Arrivals;

/// <summary>What an agent says about a source, three times a minute: so a quiet log is known to be complete.</summary>
/// <param name="Signal">metrics, logs, traces or flows.</param>
/// <param name="Source">The source's name.</param>
/// <param name="Agent">Node of the agent.</param>
/// <param name="At">When.</param>
/// <param name="Read">Samples, lines, spans or flows read since it started.</param>
/// <param name="Sent">Of those the server accepted.</param>
/// <param name="Dropped">Of those it had to drop, or knows to be lost.</param>
/// <param name="Error">The last read's error, or null when it went well.</param>
public sealed record SourceReport(string Signal, string Source, string Agent, DateTimeOffset At, long Read, long Sent, long Dropped, string? Error)
{
    /// <summary>Event name of the log record in which an agent sends it.</summary>
    public const string EventName = "skevin.source.status";

    private const int LongestError = 500;

    /// <summary>As a log record.</summary>
    public LogRecord Write()
    {
        var record = new LogRecord { TimeUnixNano = (ulong)At.ToUnixTimeMilliseconds() * 1_000_000, EventName = EventName };
        OtlpAttributes.Write(record.Attributes,
            [new("skevin.signal", Signal), new(OtlpMetrics.SourceAttribute, Source), new("skevin.error", Error is { Length: > LongestError } ? Error[..LongestError] : Error ?? "")]);
        foreach (var (name, value) in new[] { ("skevin.read", Read), ("skevin.sent", Sent), ("skevin.dropped", Dropped) })
            record.Attributes.Add(new KeyValue { Key = name, Value = new AnyValue { IntValue = value } });
        return record;
    }

    /// <summary>From a log record; null where it names no source.</summary>
    public static SourceReport? Of(LogRecord record, string agent)
    {
        var fields = OtlpAttributes.Read(record.Attributes);
        long Number(string name) => long.TryParse(fields.GetValueOrDefault(name), out var number) ? number : 0;
        return !fields.TryGetValue(OtlpMetrics.SourceAttribute, out var source) ? null : new SourceReport(
            fields.GetValueOrDefault("skevin.signal", "metrics"), source, agent, DateTimeOffset.FromUnixTimeMilliseconds((long)Math.Min(record.TimeUnixNano / 1_000_000, 253_402_300_799_999)),
            Number("skevin.read"), Number("skevin.sent"), Number("skevin.dropped"), fields.GetValueOrDefault("skevin.error") is { Length: > 0 } error ? error : null);
    }
}
