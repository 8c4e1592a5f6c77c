using System.Security.Cryptography;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Traffic;
using Skevin.Server.Setup;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Blocks;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Ingest;

/// <summary>Takes in what senders bring, whatever way it comes. Each answers after the commit.</summary>
public sealed class TakeSignals(MetricsIntake metrics, SignalIntake signals, ArrivalBook arrivals, IngestLimits limits, Retentions retentions, TimeProvider clock)
{
    /// <summary>Metrics.</summary>
    public async Task<ExportMetricsServiceResponse> Metrics(Sender sender, ExportMetricsServiceRequest request)
    {
        var read = OtlpMetrics.Read(request, sender.Cluster, Range("metrics"));
        limits.Take(sender.Token, read.Samples.Sum(run => run.Points.Count) + read.Histograms.Sum(run => run.Points.Count));
        var result = await metrics.Store(sender.Token.ClusterId, new RequestKey(sender.Token.Id, sender.Key), read);
        if (result.Conflicts > 0)
            read.Refused.Add("Another value is stored for the same series and time: there are two senders.", result.Conflicts);
        OwnMetrics.Took("metrics", sender.Cluster, read.Samples.Sum(run => run.Points.Count) + read.Histograms.Sum(run => run.Points.Count) - result.Conflicts, read.Refused.Count);
        var answer = new ExportMetricsServiceResponse();
        if (read.Refused.Count > 0)
            answer.PartialSuccess = new ExportMetricsPartialSuccess { RejectedDataPoints = read.Refused.Count, ErrorMessage = read.Refused.Why };
        return answer;
    }

    /// <summary>Log records. Status records of Skevin's own agents come among them.</summary>
    /// <param name="body">The request as it came, to tell it from its repetition where it has no key.</param>
    public async Task<ExportLogsServiceResponse> Logs(Sender sender, ExportLogsServiceRequest request, ReadOnlyMemory<byte> body, CancellationToken stop)
    {
        var read = OtlpLogs.Read(request, sender.Cluster, Range("logs"), clock.GetUtcNow().ToUnixTimeMilliseconds());
        limits.Take(sender.Token, read.Lines.Count + read.Events.Count);
        if (read.Lines.Count + read.Events.Count > 0)
            await signals.Store(new SignalRequest(sender.Token.ClusterId, new RequestKey(sender.Token.Id, sender.Key ?? HashOf(body)), read.Sources) { Lines = read.Lines, Events = read.Events });
        if (read.Reports.Count > 0)
            await arrivals.Report(sender.Token.ClusterId, read.Reports, stop);
        OwnMetrics.Took("logs", sender.Cluster, read.Lines.Count + read.Events.Count, read.Refused.Count);
        var answer = new ExportLogsServiceResponse();
        if (read.Refused.Count > 0)
            answer.PartialSuccess = new ExportLogsPartialSuccess { RejectedLogRecords = read.Refused.Count, ErrorMessage = read.Refused.Why };
        return answer;
    }

    /// <summary>Spans.</summary>
    public async Task<ExportTraceServiceResponse> Traces(Sender sender, ExportTraceServiceRequest request)
    {
        var read = OtlpTraces.Read(request, sender.Cluster, Range("traces"));
        limits.Take(sender.Token, read.Spans.Count);
        if (read.Spans.Count > 0)
            await signals.Store(new SignalRequest(sender.Token.ClusterId, new RequestKey(sender.Token.Id, sender.Key), read.Sources) { Spans = read.Spans });
        OwnMetrics.Took("traces", sender.Cluster, read.Spans.Count, read.Refused.Count);
        var answer = new ExportTraceServiceResponse();
        if (read.Refused.Count > 0)
            answer.PartialSuccess = new ExportTracePartialSuccess { RejectedSpans = read.Refused.Count, ErrorMessage = read.Refused.Why };
        return answer;
    }

    /// <summary>Flows. Each request is a session of its own: its templates stand in it.</summary>
    /// <returns>How many were accepted, and what was refused.</returns>
    /// <exception cref="FormatException">The body is not IPFIX.</exception>
    public async Task<(int Accepted, Refusals Refused)> Flows(Sender sender, ReadOnlyMemory<byte> body)
    {
        var (flows, session, without) = (new List<FlowRecord>(), new FlowIpfix.Session(), 0);
        for (var rest = body; rest.Length > 0;)
        {
            var message = session.Read(rest.Span, flows);
            without += message.WithoutTemplate;
            rest = rest[message.Header.Length..];
        }
        var range = Range("flows");
        var oldest = (clock.GetUtcNow() - SignalRequest.SinglesKept).ToUnixTimeMilliseconds();
        var refused = new Refusals();
        if (without > 0)
            refused.Add("A set came without its template; each request holds the templates it needs.", without);
        var taken = flows.Where(flow =>
        {
            if (range.Refuses(flow.End) is not { } why)
                return true;
            refused.Add(why);
            return false;
        }).ToArray();
        var sources = new SourceTally("flows");
        foreach (var flow in taken.Where(flow => flow.Node.Length > 0))
            sources.Count(ExpectedSources.Flows(flow.Node), flow.End);
        limits.Take(sender.Token, taken.Length);
        if (taken.Length > 0)
            await signals.Store(new SignalRequest(sender.Token.ClusterId, new RequestKey(sender.Token.Id, sender.Key ?? HashOf(body)), sources.Arrivals) { Flows = FlowMinutes.Of(taken), Singles = [.. taken.Where(flow => flow.End > oldest)] });
        OwnMetrics.Took("flows", sender.Cluster, taken.Length, refused.Count);
        return (taken.Length, refused);
    }

    private StampRange Range(string signal) => StampRange.At(clock.GetUtcNow(), retentions.Of(signal));

    private static string HashOf(ReadOnlyMemory<byte> body) => "sha256:" + Convert.ToHexString(SHA256.HashData(body.Span));
}
