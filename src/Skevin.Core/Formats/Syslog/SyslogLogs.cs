using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Logs.V1;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Core.Formats.Syslog;

/// <summary>Syslog messages as records of OTLP. Source: OpenTelemetry log data model, appendices A "RFC5424 Syslog" and B "SeverityNumber example mappings" (from memory).</summary>
public static class SyslogLogs
{
    private static readonly string[] Severities = ["emergency", "alert", "critical", "error", "warning", "notice", "informational", "debug"];

    // Emergency to debug: FATAL, ERROR3, ERROR2, ERROR, WARN, INFO2, INFO, DEBUG.
    private static readonly int[] Numbers = [21, 19, 18, 17, 13, 10, 9, 5];

    /// <summary>A record.</summary>
    /// <param name="message">The message.</param>
    /// <param name="seen">When it came, nanoseconds since the epoch.</param>
    public static LogRecord Record(SyslogMessage message, long seen)
    {
        var record = new LogRecord
        {
            TimeUnixNano = (ulong)Math.Max(0, message.Time ?? seen), ObservedTimeUnixNano = (ulong)seen, SeverityNumber = Numbers[message.Severity], SeverityText = Severities[message.Severity],
            Body = new AnyValue { StringValue = message.Text },
        };
        OtlpAttributes.Write(record.Attributes, [new("syslog.facility", message.Facility.ToString(System.Globalization.CultureInfo.InvariantCulture))]);
        foreach (var (name, value) in new[] { ("syslog.procid", message.Process), ("syslog.msgid", message.Id) })
            if (value is not null)
                OtlpAttributes.Write(record.Attributes, [new(name, value)]);
        OtlpAttributes.Write(record.Attributes, message.Data.Select(pair => new KeyValuePair<string, string>("syslog." + pair.Key, pair.Value)));
        return record;
    }

    /// <summary>Whose record it is.</summary>
    /// <param name="message">The message.</param>
    /// <param name="sender">Address it came from, for a sender that does not name itself.</param>
    public static KeyValuePair<string, string>[] Resource(SyslogMessage message, string sender) =>
        message.App is { } app ? [new("host.name", message.Host ?? sender), new("service.name", app)] : [new("host.name", message.Host ?? sender)];
}
