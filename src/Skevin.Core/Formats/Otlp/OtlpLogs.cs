using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Logs.V1;
using Skevin.Core.Arrivals;
using Skevin.Core.Logs;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Core.Formats.Otlp;

/// <summary>A request taken apart.</summary>
/// <param name="Lines">Log lines to store.</param>
/// <param name="Events">Events of the cluster to store.</param>
/// <param name="Reports">Status records of Skevin's own agents.</param>
/// <param name="Sources">By expected source, where the sender named it.</param>
/// <param name="Refused">What cannot be stored.</param>
public sealed record ReadLogs(
    IReadOnlyList<LogLine> Lines, IReadOnlyList<LogLine> Events, IReadOnlyList<SourceReport> Reports, IReadOnlyList<SourceArrival> Sources, Refusals Refused);

/// <summary>Turns OTLP logs into lines, events of the cluster and status records.</summary>
public static class OtlpLogs
{
    /// <summary>Event name of a record that holds an event of the cluster. Source: semantic conventions, events of clusters (from memory).</summary>
    public const string ClusterEvent = "k8s.event";

    /// <summary>Reads all records of a request.</summary>
    /// <param name="request">The decoded request.</param>
    /// <param name="cluster">The token's cluster; it is the data's cluster whatever the sender says.</param>
    /// <param name="range">Stamps that are taken.</param>
    /// <param name="now">Stamp of records that have none, epoch milliseconds.</param>
    public static ReadLogs Read(ExportLogsServiceRequest request, string cluster, StampRange range, long now)
    {
        var (lines, events, reports, refused) = (new List<LogLine>(), new List<LogLine>(), new List<SourceReport>(), new Refusals());
        var sources = new SourceTally("logs");
        foreach (var resource in request.ResourceLogs)
        {
            var common = OtlpAttributes.Read(resource.Resource?.Attributes);
            common["k8s.cluster.name"] = cluster;
            var labels = Labels.From(common);
            foreach (var scope in resource.ScopeLogs)
            {
                var source = OtlpAttributes.Read(scope.Scope?.Attributes).GetValueOrDefault(OtlpMetrics.SourceAttribute);
                foreach (var record in scope.LogRecords)
                {
                    if (record.EventName == SourceReport.EventName)
                    {
                        if (SourceReport.Of(record, common.GetValueOrDefault("k8s.node.name") ?? common.GetValueOrDefault("host.name", "")) is { } report)
                            reports.Add(report);
                        continue;
                    }
                    var line = Line(record, labels, now);
                    if (range.Refuses(line.Milliseconds) is { } why)
                    {
                        refused.Add(why);
                        continue;
                    }
                    (record.EventName == ClusterEvent ? events : lines).Add(line);
                    if (source is not null)
                        sources.Count(source, line.Milliseconds);
                }
            }
        }
        return new ReadLogs(lines, events, reports, sources.Arrivals, refused);
    }

    // Where a record has no time of its own, the time at which it was seen counts. Source: OpenTelemetry logs data model.
    private static LogLine Line(LogRecord record, Labels resource, long now)
    {
        var time = record.TimeUnixNano > 0 ? record.TimeUnixNano : record.ObservedTimeUnixNano > 0 ? record.ObservedTimeUnixNano : (ulong)now * 1_000_000;
        var attributes = OtlpAttributes.Read(record.Attributes);
        if (record.EventName.Length > 0 && record.EventName != ClusterEvent)
            attributes["event.name"] = record.EventName;
        var level = LogLevels.OfNumber(record.SeverityNumber);
        return new LogLine((long)Math.Min(time, long.MaxValue), level != LogLevel.None ? level : LogLevels.OfWord(record.SeverityText), OtlpAttributes.Text(record.Body), resource,
            Labels.From(attributes), TraceId.Of(record.TraceId.Span), TraceId.SpanOf(record.SpanId.Span));
    }
}
