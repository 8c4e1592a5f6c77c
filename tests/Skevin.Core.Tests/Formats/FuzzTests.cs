using System.Globalization;
using System.Net;
using System.Text;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
using Skevin.Core.Clusters;
using Skevin.Core.Formats.ContainerLog;
using Skevin.Core.Formats.Ipfix;
using Skevin.Core.Formats.OpenMetrics;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Formats.Syslog;
using Skevin.Core.Logs;
using Skevin.Core.Query.Language;
using Skevin.Core.Series;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;

namespace Skevin.Core.Tests.Formats;

/// <summary>
/// Every parser takes any bytes: it reads them or refuses them in the way it says, and does nothing else. Bytes are good examples with a few changes. Runs shortly; for more set
/// SKEVIN_FUZZ_TIMES, for example to 10000000, and SKEVIN_FUZZ_SEED to begin elsewhere, SKEVIN_FUZZ_ONLY for one parser alone.
/// </summary>
public sealed class FuzzTests
{
    private static readonly int Times = int.Parse(Environment.GetEnvironmentVariable("SKEVIN_FUZZ_TIMES") ?? "4000", CultureInfo.InvariantCulture);
    private static readonly int Seed = int.Parse(Environment.GetEnvironmentVariable("SKEVIN_FUZZ_SEED") ?? "1", CultureInfo.InvariantCulture);

    private static readonly Labels Set = Labels.From([new("k8s.pod.name", "ledger-1"), new("k8s.namespace.name", "auction"), new("service.name", "ledger")]);
    private static readonly LogLine[] Lines = [.. Enumerable.Range(0, 12).Select(i => new LogLine(1_795_000_000_000_000_000 + i * 7_000_000, LogLevel.Info, $"sold lot A-{i} for {i * 3} in 20ms", Set, Set, new TraceId(7, (ulong)i), (ulong)i))];
    private static readonly Span[] Spans = [.. Enumerable.Range(0, 12).Select(i => new Span(new TraceId(7, (ulong)i / 3), (ulong)i + 1, (ulong)i, "POST /bids/{lot}", SpanKind.Server, 1_795_000_000_000_000_000 + i, 5_000_000, SpanStatus.Error, "late", 4, Set, Set, [new SpanEvent(1_795_000_000_000_000_003, "exception", Set)]))];
    private static readonly FlowRecord[] Flows = [.. Enumerable.Range(0, 12).Select(i => new FlowRecord("north-1", FlowDirection.Egress, IPAddress.Parse("192.0.2." + i), IPAddress.Parse("2001:db8::" + i), 40_000, 8080, 6, 0x1b, 64, 1_795_000_000_000, 1_795_000_000_050, 6, 700, "GET", "/lots/A-" + i, "ledger", 200))];
    private static readonly SeriesRun[] Runs = [.. Enumerable.Range(1, 3).Select(series => new SeriesRun(series, [.. Enumerable.Range(0, 20).Select(i => new Sample(1_795_000_000_000 + i * 15_000, i * 0.25 * series, 1_794_000_000_000))]))];

    private static byte[] Text(string text) => Encoding.UTF8.GetBytes(text);

    private static string String(byte[] bytes) => Encoding.UTF8.GetString(bytes);

    private static byte[] Ipfix()
    {
        var writer = new IpfixWriter();
        foreach (var template in new[] { FlowIpfix.V4, FlowIpfix.V6, FlowIpfix.DomainName })
            writer.Template(template);
        writer.Record(FlowIpfix.DomainName);
        writer.Number(1, 4);
        writer.Variable("north-1");
        foreach (var flow in Flows)
            FlowIpfix.Write(writer, flow with { Destination = flow.Source });
        return writer.Finish(1_795_000_000, 0, 1);
    }

    private static readonly Dictionary<string, (byte[][] Good, Action<byte[]> Read)> Parsers = new()
    {
        ["enquiry"] = ([Text("a: spans -> where service = \"ledger\" and duration > 400ms -> p95 duration by namespace every 1m\nb: logs -> parse \"sold {lot} for {n:number}\" -> set x = n * 2 -> count\na / b -> as percent"),
            Text("container.cpu.time -> where not (pod like \"a%\" or `odd name` in (1, -2MiB)) -> rate -> over 5m max -> highest 5 by max -> shift 7d -> gaps hold")], bytes => Parser.Read(String(bytes))),
        ["text pattern"] = ([Text("sold lot {lot} for {price:number} in {took:duration} {{x}} {}")], bytes => TextPattern.Wrong(String(bytes))),
        ["OpenMetrics"] = ([Text("# TYPE a histogram\n# UNIT a seconds\n# HELP a says \\\"so\\\"\na_bucket{le=\"0.1\",b=\"c\\n\"} 8 # {t=\"x\"} 0.05 152.7\na_bucket{le=\"+Inf\"} 9 1520.5\na_count 9\na_sum 3.25e2\na_created 1520.1\n# TYPE g gauge\ng NaN\n# EOF\n")], bytes =>
            {
                OpenMetricsText.Read(String(bytes));
                OpenMetricsText.Read(String(bytes), strict: false);
            }
        ),
        ["OTLP JSON"] = ([Text("""{"resourceMetrics":[{"resource":{"attributes":[{"key":"a","value":{"arrayValue":{"values":[{"intValue":"5"},{"doubleValue":1e3},{"bytesValue":"AQI="}]}}}]},"scopeMetrics":[{"metrics":[{"name":"m","unit":"s","sum":{"aggregationTemporality":2,"isMonotonic":true,"dataPoints":[{"asInt":"7","startTimeUnixNano":"1","timeUnixNano":"179"}]}}]}]}]}"""),
            Text("""{"resourceSpans":[{"scopeSpans":[{"spans":[{"traceId":"5b8efff798038103d269b633813fc60c","spanId":"eee19b7ec3c1b174","kind":2,"status":{"code":2}}]}]}],"resourceLogs":[{"scopeLogs":[{"logRecords":[{"severityNumber":17,"body":{"stringValue":"x"}}]}]}]}""")], bytes =>
            {
                OtlpJson.Read<ExportMetricsServiceRequest>(bytes);
                OtlpJson.Read<ExportTraceServiceRequest>(bytes);
                OtlpJson.Read<ExportLogsServiceRequest>(bytes);
            }
        ),
        ["container line"] = ([Text("2026-11-24T06:00:00.123456789Z stderr P half of a line"), Text("2026-11-24T06:00:00Z stdout F {\"level\":\"warn\",\"message\":\"late\",\"lot\":{\"a\":1}}")], bytes => ContainerLogLine.Read(bytes)),
        ["log message"] = ([Text("{\"level\":\"warn\",\"message\":\"late\",\"trace_id\":\"5b8efff798038103d269b633813fc60c\",\"lot\":{\"a\":[1,2]}}"), Text("ERROR [ledger] no answer trace_id=5b8efff798038103d269b633813fc60c")], bytes => LogMessage.Read(String(bytes))),
        ["IPFIX"] = ([Ipfix()], bytes => new FlowIpfix.Session().Read(bytes, [])),
        ["batch"] = ([SampleBatch.Encode(Runs)], bytes => SampleBatch.Decode(bytes)),
        ["chunk"] = ([.. SampleChunk.Together(Runs).Select(SampleChunk.Encode)], bytes => SampleChunk.Decode(bytes, _ => true)),
        ["summaries"] = ([SummaryChunk.Encode([.. Runs.Select(run => (run.Series, run.Series % 2 == 0, SummaryRun.Of([.. run.Samples], SummaryRun.Widths[0])))])], bytes => SummaryChunk.Decode(bytes, _ => true)),
        ["lines"] = ([LogBlock.Encode(Lines), LogColumns.Encode(Lines)], bytes => LogBlock.Decode(bytes)),
        ["spans"] = ([SpanBlock.Encode(Spans), SpanColumns.Encode(Spans)], bytes => SpanBlock.Decode(bytes)),
        ["sketches"] = ([SpanSketches.Of(Spans)], bytes => SpanSketches.Decode(bytes)),
        ["flow minutes"] = ([FlowBlock.Encode(FlowMinutes.Of(Flows))], bytes => FlowBlock.Decode(bytes)),
        ["single flows"] = ([FlowRecordBlock.Encode(Flows)], bytes => FlowRecordBlock.Decode(bytes)),
        ["trace context"] = ([Text("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"), Text("ot=th:c;rv:12,a=b")], bytes =>
            {
                TraceParent.TryRead(String(bytes), out _, out _, out _);
                HeadSampling.Read(String(bytes));
            }
        ),
        ["syslog"] = ([Text("<165>1 2003-10-11T22:14:15.003Z host app 41 ID47 [a@1 b=\"3\" c=\"x \\\" y\"][d@2 e=\"high\"] text"), Text("34 <34>1 - - - - - - ten characters\n<13>1 - h a - - - x\n")], bytes =>
            {
                new SyslogFraming().Take(bytes);
                SyslogMessage.Read(bytes);
            }
        ),
        ["quantity"] = ([Text("128974848"), Text("1.5Gi"), Text("100m"), Text("12e6")], bytes => Quantity.Parse(String(bytes))),
    };

    public static TheoryData<string> Names => [.. Parsers.Keys.Where(name => Environment.GetEnvironmentVariable("SKEVIN_FUZZ_ONLY") is not { Length: > 0 } only || name == only)];

    [Theory]
    [MemberData(nameof(Names))]
    public void Any_bytes_are_read_or_refused(string parser)
    {
        var (good, read) = Parsers[parser];
        var random = new Random(Seed * 1009 + parser.Sum(letter => letter));
        for (var i = 0; i < Times; i++)
        {
            var bytes = Changed(good[random.Next(good.Length)], random);
            try
            {
                read(bytes);
            }
            catch (Exception refused) when (refused is FormatException or EnquiryException || refused.GetType().Name is "InvalidProtocolBufferException" or "JsonException" or "JsonReaderException")
            {
            }
            catch (Exception wrong)
            {
                throw new InvalidOperationException($"{parser} {i}: {Convert.ToBase64String(bytes)}", wrong);
            }
        }
    }

    // One to eight changes: a byte turned, put in, taken out, a piece copied elsewhere, the end cut off.
    private static byte[] Changed(byte[] good, Random random)
    {
        var bytes = new List<byte>(good);
        for (var changes = random.Next(1, 9); changes > 0 && bytes.Count > 0; changes--)
        {
            var at = random.Next(bytes.Count);
            switch (random.Next(5))
            {
                case 0:
                    bytes[at] ^= (byte)(1 << random.Next(8));
                    break;
                case 1:
                    bytes.Insert(at, (byte)random.Next(256));
                    break;
                case 2:
                    bytes.RemoveAt(at);
                    break;
                case 3:
                    var piece = bytes.GetRange(at, Math.Min(random.Next(1, 20), bytes.Count - at));
                    bytes.InsertRange(random.Next(bytes.Count), piece);
                    break;
                default:
                    if (random.Next(4) == 0)
                        bytes.RemoveRange(at, bytes.Count - at);
                    else
                        bytes[at] = (byte)random.Next(256);
                    break;
            }
        }
        return [.. bytes];
    }
}
