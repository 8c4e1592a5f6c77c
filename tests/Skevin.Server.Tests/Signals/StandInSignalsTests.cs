using System.Net.Sockets;
using Skevin.Agent.Buffer;
using Skevin.Agent.Collection;
using Skevin.Core.Collection;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;
using Skevin.StandIn.Model;
using Skevin.StandIn.Telemetry;
using Kind = OpenTelemetry.Proto.Trace.V1.Span.Types.SpanKind;
using Span = OpenTelemetry.Proto.Trace.V1.Span;

namespace Skevin.Server.Tests.Signals;

/// <summary>What one request leaves in the stand-in: a trace, lines and flows that belong together.</summary>
public sealed class StandInSignalsTests
{
    private static readonly DateTimeOffset Begin = DateTimeOffset.Parse("2026-11-24T14:00:00Z");

    private static (SimCluster Cluster, Faults Faults, string Folder) Run(int seconds, params string[] faults)
    {
        var (switches, folder) = (new Faults(), Directory.CreateTempSubdirectory("skevin-logs").FullName);
        foreach (var fault in faults)
            switches.Set(fault, true);
        var cluster = new SimCluster("larkfield-north", 1, 5, switches, 3, Begin, new PodLogs(folder));
        for (var second = 5; second <= seconds; second += 5)
            cluster.Advance(Begin.AddSeconds(second));
        return (cluster, switches, folder);
    }

    private static Span[] Spans(SimCluster cluster) => [.. cluster.Telemetry.TakeSpans().SelectMany(pod => pod.Spans)];

    [Fact]
    public void Every_answer_stands_under_the_call_that_waited_for_it_in_one_trace()
    {
        var (cluster, _, folder) = Run(90);
        var spans = Spans(cluster);
        var byId = spans.ToDictionary(span => span.SpanId);
        // Calls still under way have not told of themselves yet; those of the first minute are done.
        var answers = spans.Where(span => span.Kind == Kind.Server && !span.ParentSpanId.IsEmpty && span.EndTimeUnixNano < (ulong)Begin.AddSeconds(60).ToUnixTimeMilliseconds() * 1_000_000).ToArray();
        answers.Length.ShouldBeGreaterThan(500);
        foreach (var answer in answers)
        {
            var call = byId[answer.ParentSpanId];
            (call.Kind, call.TraceId).ShouldBe((Kind.Client, answer.TraceId));
            call.StartTimeUnixNano.ShouldBeLessThanOrEqualTo(answer.StartTimeUnixNano);
            call.EndTimeUnixNano.ShouldBeGreaterThanOrEqualTo(answer.EndTimeUnixNano);
        }
        spans.Select(span => span.SpanId).Distinct().Count().ShouldBe(spans.Length);
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public void A_failure_has_a_stack_in_its_span_and_in_its_line_and_fails_those_who_waited()
    {
        var (cluster, _, folder) = Run(120, Faults.SlowBank);
        var failed = Spans(cluster).Where(span => span.Status?.Code == OpenTelemetry.Proto.Trace.V1.Status.Types.StatusCode.Error).ToArray();
        failed.ShouldNotBeEmpty();
        var root = failed.First(span => span.Kind == Kind.Client && span.Attributes.Any(pair => pair.Key == "server.address" && pair.Value.StringValue == "bank"));
        root.Events.Single().Attributes.Single(pair => pair.Key == "exception.stacktrace").Value.StringValue.ShouldContain("   at ");
        var trace = TraceId.Of(root.TraceId.Span).ToString();
        var lines = Directory.EnumerateFiles(folder, "0.log", SearchOption.AllDirectories).SelectMany(File.ReadLines).Where(line => line.Contains(trace)).ToArray();
        lines.ShouldContain(line => line.Contains(" stderr F ") && line.Contains("exception.stacktrace") && line.Contains("no answer from bank"));
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public void A_connection_between_nodes_is_seen_at_both_and_families_are_those_of_the_pods()
    {
        var (cluster, _, folder) = Run(120, Faults.PolicyDenies);
        var seen = cluster.Nodes.SelectMany(node => cluster.Telemetry.TakeFlows(node)).ToArray();
        var nodeOf = cluster.Pods.SelectMany(pod => pod.Addresses.Select(address => (address, pod))).ToDictionary(pair => pair.address, pair => pair.pod);
        foreach (var flow in seen.GroupBy(flow => (flow.Source, flow.Destination, flow.SourcePort, flow.Start)))
        {
            var from = nodeOf.GetValueOrDefault(flow.Key.Source.ToString())?.Node;
            var to = nodeOf.GetValueOrDefault(flow.Key.Destination.ToString())?.Node;
            flow.Count().ShouldBe(from is not null && to is not null && from != to ? 2 : 1);
            flow.Key.Source.AddressFamily.ShouldBe(flow.Key.Destination.AddressFamily);
        }
        seen.Where(flow => nodeOf.GetValueOrDefault(flow.Source.ToString())?.OwnerName == "room-sensors").ShouldAllBe(flow => flow.Source.AddressFamily == AddressFamily.InterNetworkV6);
        seen.Select(flow => flow.Source.AddressFamily).Distinct().Count().ShouldBe(2);
        // RFC 9293: a connection that was denied shows its SYN alone.
        var denied = seen.Where(flow => flow.Status == ForwardingStatus.AclDeny && nodeOf.GetValueOrDefault(flow.Source.ToString())?.OwnerName == "door-watch").ToArray();
        denied.ShouldNotBeEmpty();
        denied.ShouldAllBe(flow => flow.TcpFlags == 2 && flow.DestinationPort == 5671);
        seen.ShouldContain(flow => flow.Protocol == 17 && flow.DestinationPort == 53);
        seen.ShouldContain(flow => flow.Method == "GET" && flow.Target.StartsWith("/lots/A-", StringComparison.Ordinal));
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public void Long_messages_are_split_as_the_runtime_does_files_are_rotated_and_the_agent_joins_them_again()
    {
        var folder = Directory.CreateTempSubdirectory("skevin-logs").FullName;
        var logs = new PodLogs(folder);
        var pod = new SimPod
        {
            Namespace = "payout", Name = "statements-1", Uid = "u1", OwnerKind = "Deployment", OwnerName = "statements", TemplateHash = "h",
            TemplateJson = """{"spec":{"containers":[{"name":"statements"}]}}""", Created = Begin, Node = "north-1",
        };
        var (tailer, got) = (new LogTailer(logs.NodeRoot("north-1"), new DiskBuffer(Path.Combine(folder, "buffer"))), new List<string>());
        var buffer = new DiskBuffer(Path.Combine(folder, "buffer"));
        tailer = new LogTailer(logs.NodeRoot("north-1"), buffer);
        var written = new List<string>();
        for (var i = 0; i < 300; i++)
        {
            var message = $"{i} " + new string((char)('a' + i % 26), i % 3 == 0 ? 40_000 : 200);
            written.Add(message);
            logs.Write(pod, Begin.ToUnixTimeMilliseconds() * 1_000_000 + i, stderr: i % 2 == 0, message);
            if (i % 10 != 9)
                continue;
            logs.Flush(Begin.AddSeconds(i));
            for (var more = true; more;)
            {
                more = false;
                foreach (var lines in tailer.Read(new LogsPlan(), [], Begin.AddHours(1), "north-1", Begin.AddSeconds(i)))
                {
                    buffer.Seal("logs", "x"u8, [], lines.Marks);
                    if (lines.Count > 0)
                        got.AddRange(lines.Records.ScopeLogs[0].LogRecords.Select(record => record.Body.StringValue));
                    more |= lines.More;
                }
            }
        }
        got.Order().ShouldBe(written.Order());
        Directory.EnumerateFiles(logs.PodFolder(pod), "0.log.*", SearchOption.AllDirectories).Count().ShouldBeInRange(1, 4);
        Directory.Delete(folder, recursive: true);
    }
}
