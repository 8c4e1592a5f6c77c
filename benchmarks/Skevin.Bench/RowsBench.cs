using System.Diagnostics;
using System.Net;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Logs.V1;
using OpenTelemetry.Proto.Trace.V1;
using Skevin.Core.Access;
using Skevin.Core.Formats.Ipfix;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;
using Skevin.Storage.Blocks;
using Skevin.Storage.Flows;
using Microsoft.Extensions.DependencyInjection;
using Span = OpenTelemetry.Proto.Trace.V1.Span;

namespace Skevin.Bench;

/// <summary>Log lines, spans and flows: accepted, stored, asked.</summary>
public static class RowsBench
{
    private const int Together = 2000;

    private static Task Merge(BenchServer server) => new BlockMerging(server.Database, new Ahead(TimeSpan.FromHours(3))).Run(CancellationToken.None);

    /// <summary>Log lines over two hours; the raw files for grep lie in a folder.</summary>
    public static async Task Logs(BenchServer server, Report report, DateTimeOffset end, int lines, string folder)
    {
        var random = new Random(7);
        var begin = end.AddHours(-2);
        var requests = new List<ExportLogsServiceRequest>();
        var raw = 0L;
        Directory.CreateDirectory(folder);
        var file = new StreamWriter(Path.Combine(folder, "0.log"));
        for (var i = 0; i < lines; i++)
        {
            if (i % 1_000_000 == 999_999)
            {
                await file.DisposeAsync();
                file = new StreamWriter(Path.Combine(folder, $"{i}.log"));
            }
            var time = begin + (end - begin) * (i + 1) / lines;
            var text = random.Next(100) switch
            {
                < 50 => $"bid of buyer {random.Next(4000)} on lot A-{random.Next(5000)} taken at {random.Next(100, 90_000) / 100.0:0.00}",
                < 80 => $"POST /bids/A-{random.Next(5000)} 200 in {random.Next(3, 90)} ms",
                < 95 => $"write of lot A-{random.Next(5000)} done in {random.Next(1, 40)} ms, {random.Next(1, 9)} waiting",
                < 99 => $"slow write of lot A-{random.Next(5000)} took {random.Next(1000, 3000)} ms",
                _ => $"write refused: no answer from bank within 3 s, lot A-{random.Next(5000)}",
            };
            if (i == lines / 3)
                text += " kingfisher";
            var level = text.StartsWith("slow", StringComparison.Ordinal) ? 13 : text.Contains("refused") ? 17 : 9;
            // As the container runtime writes it.
            var line = $"{time:yyyy-MM-ddTHH:mm:ss.fffffff}00Z stdout F {text}\n";
            raw += line.Length;
            await file.WriteAsync(line);
            if (i % Together == 0)
            {
                var owner = new ResourceLogs { Resource = new(), ScopeLogs = { new ScopeLogs() } };
                owner.Resource.Attributes.AddRange(Otlp.Attributes(("k8s.namespace.name", "auction"), ("k8s.deployment.name", "ledger"), ("k8s.pod.name", $"ledger-{i / Together % 5}"), ("k8s.container.name", "ledger")));
                requests.Add(new ExportLogsServiceRequest { ResourceLogs = { owner } });
            }
            requests[^1].ResourceLogs[0].ScopeLogs[0].LogRecords.Add(new LogRecord { TimeUnixNano = (ulong)time.ToUnixTimeMilliseconds() * 1_000_000, SeverityNumber = level, Body = new AnyValue { StringValue = text } });
        }
        await file.DisposeAsync();
        report.Add("Log lines accepted durably a second", lines / await server.Push("v1/logs", requests), "", 100_000);
        await Merge(server);
        await server.Run("vacuum full log_block");
        report.Add("Log text on disk against raw, indexes included", raw / (double)await server.Size("log_block"), " times smaller", 5);

        var found = 0.0;
        var own = await Report.Least(3, async () => found = (await server.Ask("logs -> where text says \"kingfisher\" -> count every 2h", begin, end)).Series.Sum(series => series.Values.Where(value => !double.IsNaN(value)).Sum()));
        var grep = await Report.Least(3, async () => await Process.Start(new ProcessStartInfo("grep", ["-rcw", "kingfisher", folder]) { RedirectStandardOutput = true })!.WaitForExitAsync());
        report.Add($"A rare word in {lines:N0} lines, against grep over the raw files", grep / own, " times faster", 20, remark: $"{own * 1000:N0} ms, found {found}");
        report.Add($"Lines by level by minute over {lines:N0} lines", await Report.Least(3, () => server.Ask("logs -> count by level every 1m", begin, end)), " s", 1, atLeast: false);
        report.Tell("Kinds of the same lines", $"{await Report.Least(1, () => server.Ask("logs -> kinds", begin, end)):0.00} s");
    }

    /// <summary>Spans, ten a trace, over two hours.</summary>
    public static async Task Spans(BenchServer server, Report report, DateTimeOffset end, int spans)
    {
        var random = new Random(7);
        var begin = end.AddHours(-2);
        string[] services = ["gatehouse", "bid-gateway", "clock", "ledger", "lot-cache"];
        var requests = new List<ExportTraceServiceRequest>();
        for (var i = 0; i < spans; i += Together)
        {
            var request = new ExportTraceServiceRequest();
            foreach (var service in services)
            {
                var owner = new ResourceSpans { Resource = new(), ScopeSpans = { new ScopeSpans() } };
                owner.Resource.Attributes.AddRange(Otlp.Attributes(("service.name", service), ("k8s.namespace.name", "auction"), ("k8s.deployment.name", service), ("k8s.pod.name", service + "-" + i / Together % 3)));
                request.ResourceSpans.Add(owner);
            }
            for (var j = i; j < Math.Min(spans, i + Together); j++)
            {
                var (trace, place) = (j / 10 + 1, j % 10);
                var start = (ulong)((begin + (end - begin) * trace / (spans / 10.0 + 1)).ToUnixTimeMilliseconds() * 1_000_000) + (ulong)(place * 700_000);
                request.ResourceSpans[place % 5].ScopeSpans[0].Spans.Add(new Span
                {
                    TraceId = ByteString.CopyFrom(new TraceId(0x5eed, (ulong)trace).Bytes()), SpanId = ByteString.CopyFrom(TraceId.SpanBytes((ulong)random.NextInt64(1, long.MaxValue) & ~15UL | (uint)place + 1)),
                    Name = place % 2 == 0 ? "POST /bids/{lot}" : "GET /lots/{lot}", Kind = place % 2 == 0 ? Span.Types.SpanKind.Server : Span.Types.SpanKind.Client, StartTimeUnixNano = start, EndTimeUnixNano = start + (ulong)(random.NextDouble() * 5e7),
                    Attributes = { Otlp.Attributes(("http.request.method", "POST"), ("http.response.status_code", random.Next(100) == 0 ? "503" : "200"), ("lot", "A-" + random.Next(5000))) },
                });
            }
            requests.Add(request);
        }
        report.Add("Spans accepted durably a second", spans / await server.Push("v1/traces", requests), "", 50_000);
        await Merge(server);
        await server.Run("vacuum full span_block");
        await server.Run("vacuum full trace_index");
        report.Tell("Bytes a span, indexes included", $"{await server.Size("span_block", "trace_index") / (double)spans:0.0}");
        var reader = new RowReader(server.Database, server.Services.GetRequiredService<AddressBooks>(), AccessScope.Everything, BenchServer.Cluster);
        var times = new List<double>();
        for (var i = 0; i < 41; i++)
            times.Add(await Report.Least(1, async () =>
            {
                if ((await reader.Trace(new TraceId(0x5eed, (ulong)random.Next(1, spans / 10)), CancellationToken.None)).Count != 10)
                    throw new InvalidOperationException("A trace is not whole.");
            }));
        report.Add($"One trace by id among {spans:N0} spans, median of 41", times.Order().ElementAt(20) * 1000, " ms", 20, atLeast: false);
        report.Add($"Slowest traces of {spans:N0} spans", await Report.Least(2, () => server.Ask("spans -> traces -> order duration down -> first 10", begin, end)), " s", 1, atLeast: false);
        report.Tell($"p95 by service by minute over {spans:N0} spans", $"{await Report.Least(3, () => server.Ask("spans -> p95 duration by service every 1m", begin, end)):0.00} s");
    }

    /// <summary>Flows over two hours.</summary>
    public static async Task Flows(BenchServer server, Report report, DateTimeOffset end, int flows)
    {
        var random = new Random(7);
        var begin = end.AddHours(-2);
        var requests = new List<byte[]>();
        for (var i = 0; i < flows; i += Together)
        {
            var writer = new IpfixWriter();
            foreach (var template in new[] { FlowIpfix.V4, FlowIpfix.V6, FlowIpfix.DomainName })
                writer.Template(template);
            writer.Record(FlowIpfix.DomainName);
            writer.Number(1, 4);
            writer.Variable("north-1");
            var messages = new List<byte>();
            for (var j = i; j < Math.Min(flows, i + Together); j++)
            {
                var time = (begin + (end - begin) * (j + 1) / flows).ToUnixTimeMilliseconds();
                FlowIpfix.Write(writer, new FlowRecord("north-1", FlowDirection.Egress, new IPAddress([192, 0, 2, (byte)random.Next(40)]), new IPAddress([192, 0, 2, (byte)random.Next(40, 80)]), (ushort)random.Next(30_000, 60_000),
                    8080, 6, 0x1b, ForwardingStatus.Forwarded, time - 20, time, 6, 700, "GET", $"/lots/{random.Next(4)}", "lot-cache", 200));
                if (j % 300 != 299)
                    continue;
                messages.AddRange(writer.Finish((uint)(time / 1000), 0, 1));
                writer = new IpfixWriter();
            }
            messages.AddRange(writer.Finish((uint)end.ToUnixTimeSeconds(), 0, 1));
            requests.Add([.. messages]);
        }
        report.Add("Flows accepted durably a second", flows / await server.Push("v1/flows", "application/ipfix", requests), "", 100_000);
        await Merge(server);
        report.Add("Graph of 2 h of flows", await Report.Least(3, () => server.Ask("flows -> graph addresses", begin, end)), " s", 1, atLeast: false);
        var decoded = 0;
        var seconds = await Report.Least(3, () =>
        {
            decoded = 0;
            foreach (var request in requests)
                decoded += Decode(request);
            return Task.CompletedTask;
        });
        report.Add("IPFIX records decoded a second on one core", decoded / seconds, "", 1_000_000);
    }

    private static int Decode(byte[] bytes)
    {
        var (session, count) = (new IpfixReader(), 0);
        for (var at = 0; at < bytes.Length;)
        {
            var length = IpfixReader.LengthOf(bytes.AsSpan(at));
            session.Read(bytes.AsSpan(at, length), record =>
            {
                if (FlowIpfix.Flow(record, "north-1") is not null)
                    count++;
            });
            at += length;
        }
        return count;
    }
}
