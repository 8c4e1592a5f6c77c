using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text.Json;
using System.Text.Json.Nodes;
using Google.Protobuf;
using Skevin.Agent;
using Skevin.Agent.Buffer;
using Skevin.Agent.Collection;
using Skevin.Agent.Receivers;
using Skevin.Core.Collection;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Series;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;
using Skevin.StandIn.Model;
using Skevin.StandIn.Telemetry;
using static Skevin.Server.Tests.Signals.SignalRequests;

namespace Skevin.Server.Tests.Signals;

/// <summary>What the agent takes: flows, spans, and what it reads of its node.</summary>
public sealed class AgentReceivingTests
{
    internal static AgentEnvironment Environment(string folder) => new(
        AgentRole.Node, "north-1", "agent-1", Path.Combine(folder, "agent.json"), Path.Combine(folder, "token"), Path.Combine(folder, "account"), null, new Uri("http://127.0.0.1:1"),
        Path.Combine(folder, "buffer"), folder, IPAddress.Loopback, 0, 0, null, TimeProvider.System);

    private static string Folder() => Directory.CreateTempSubdirectory("skevin-agent").FullName;

    private static MadeConnection Connection(int n, string? from = "north-1", string? to = null, bool denied = false) => new(
        from, to, IPAddress.Parse("192.0.2.1"), IPAddress.Parse("192.0.2.5"), (ushort)(n & 0xffff), 8080, 6, denied, 1_795_000_000_000 + n, 1_795_000_000_050 + n, 6, 700, "GET", "/lots/A-1", "lot-cache", 200);

    private static async Task<T> Until<T>(Func<T> look, Func<T, bool> holds) => await ApiCalls.Until(() => Task.FromResult(look()), holds, 10, "the receiver");

    [Fact]
    public async Task Flows_repeated_after_a_broken_connection_count_once_and_lost_ones_are_known_by_their_number()
    {
        var environment = Environment(Folder());
        var buffer = new DiskBuffer(environment.BufferFolder);
        var receiver = new FlowReceiver(environment, buffer);
        receiver.Start();
        receiver.Error.ShouldBe("no flow exporter has connected yet");
        var telemetry = new ClusterTelemetry(null);
        var port = receiver.Port;
        using var exporter = new FlowExporter("north-1", 7, telemetry, _ => port, TimeProvider.System);
        var got = 0;
        async Task Send(int first, int count)
        {
            for (var i = first; i < first + count; i++)
                telemetry.Connected(Connection(i));
            await exporter.Flush(default);
            await Until(() => (receiver.Messages, exporter.Messages, receiver.Error), seen => seen.Item1 >= seen.Item2);
        }
        void Seal()
        {
            if (receiver.Take() is not var (body, count, marks))
                return;
            buffer.Seal("flows", body, [], marks);
            var read = new List<FlowRecord>();
            new FlowIpfix.Session().Read(body, read);
            read.Count.ShouldBe(count);
            read.ShouldAllBe(flow => flow.Node == "north-1");
            got += count;
        }
        await Send(0, 10);
        Seal();
        // Taken but not sealed when the agent is killed; the exporter finds the next one and repeats what it still has.
        await Send(10, 5);
        await receiver.DisposeAsync();
        buffer = new DiskBuffer(environment.BufferFolder);
        receiver = new FlowReceiver(environment, buffer);
        receiver.Start();
        port = receiver.Port;
        await Send(15, 3);
        await Until(() => receiver.Messages, messages => messages >= 4);
        Seal();
        got.ShouldBe(18);
        receiver.Error.ShouldBeNull();
        receiver.Lost.ShouldBe(0);

        // A message that never came shows in the next one's number. RFC 7011 section 3.1.
        using var raw = new TcpClient();
        await raw.ConnectAsync(IPAddress.Loopback, port);
        foreach (var sequence in new uint[] { 0, 1, 5 })
        {
            var writer = new Core.Formats.Ipfix.IpfixWriter();
            writer.Template(FlowIpfix.V4);
            FlowIpfix.Write(writer, Flow("192.0.2.1", "192.0.2.2", DateTimeOffset.UtcNow));
            await raw.GetStream().WriteAsync(writer.Finish(2_000_000_000, sequence, 99));
        }
        await Until(() => receiver.Lost, lost => lost == 3);
        await raw.GetStream().WriteAsync(new byte[] { 0, 9, 0, 20, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12 });
        (await Until(() => receiver.Error, error => error is not null))!.ShouldContain("version 10");
        await receiver.DisposeAsync();
    }

    [Fact]
    public async Task Tshark_reads_what_exporter_and_agent_write()
    {
        // Debian's tshark as an outside reader of IPFIX files (RFC 5655: messages one behind the other).
        var environment = Environment(Folder());
        var receiver = new FlowReceiver(environment, new DiskBuffer(environment.BufferFolder));
        receiver.Start();
        var telemetry = new ClusterTelemetry(null);
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        using var exporter = new FlowExporter("north-1", 7, telemetry, _ => ((IPEndPoint)listener.LocalEndpoint).Port, TimeProvider.System);
        telemetry.Connected(Connection(1) with { To = IPAddress.Parse("192.0.2.9") });
        telemetry.Connected(Connection(2, null, "north-1", denied: true) with { From = IPAddress.Parse("2001:db8:b::7"), To = IPAddress.Parse("2001:db8:1::5") });
        var flush = exporter.Flush(default);
        using var accepted = await listener.AcceptTcpClientAsync();
        await flush;
        exporter.Dispose();
        using var stream = new MemoryStream();
        await accepted.GetStream().CopyToAsync(stream);

        using var relay = new TcpClient();
        await relay.ConnectAsync(IPAddress.Loopback, receiver.Port);
        await relay.GetStream().WriteAsync(stream.ToArray());
        await Until(() => receiver.Messages, messages => messages == 2);
        var forwarded = receiver.Take()!.Value.Body;
        await receiver.DisposeAsync();
        foreach (var bytes in new[] { stream.ToArray(), forwarded })
        {
            var file = Path.Combine(environment.BufferFolder, Guid.NewGuid() + ".ipfix");
            await File.WriteAllBytesAsync(file, bytes);
            var lines = (await Tshark(file, "cflow.srcaddr", "cflow.dstaddr", "cflow.srcaddrv6", "cflow.dstaddrv6", "cflow.dstport", "cflow.octets")).Split('\n', StringSplitOptions.RemoveEmptyEntries);
            var all = string.Join(' ', lines);
            foreach (var expected in new[] { "192.0.2.1", "192.0.2.9", "2001:db8:b::7", "2001:db8:1::5", "8080", "700" })
                all.ShouldContain(expected);
            (await Tshark(file, "_ws.malformed")).Trim().ShouldBeEmpty();
        }
    }

    private static async Task<string> Tshark(string file, params string[] fields)
    {
        var start = new ProcessStartInfo("tshark", ["-r", file, "-T", "fields", .. fields.SelectMany(field => new[] { "-e", field })]) { RedirectStandardOutput = true, RedirectStandardError = true };
        using var process = Process.Start(start)!;
        var text = await process.StandardOutput.ReadToEndAsync();
        var error = await process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync();
        process.ExitCode.ShouldBe(0, error);
        return text;
    }

    private static async Task<(CollectingAgent Agent, HttpClient Client, Microsoft.AspNetCore.Builder.WebApplication Page)> Start(string folder, CollectionPlan plan)
    {
        await File.WriteAllTextAsync(Path.Combine(folder, "agent.json"), JsonSerializer.Serialize(new AgentConfiguration("c", 1, "http://127.0.0.1:1", plan, 1 << 20), JsonSerializerOptions.Web));
        var agent = new CollectingAgent(Environment(folder));
        await agent.CollectDue(default);
        var page = AgentHost.Build(agent, "http://127.0.0.1:0", "http://127.0.0.1:0");
        await page.StartAsync();
        return (agent, new HttpClient { BaseAddress = new Uri(page.Urls.Last()) }, page);
    }

    [Fact]
    public async Task An_agent_that_has_not_read_its_plan_yet_asks_to_come_again()
    {
        await using var agent = new CollectingAgent(Environment(Folder()));
        await using var page = AgentHost.Build(agent, "http://127.0.0.1:0", "http://127.0.0.1:0");
        await page.StartAsync();
        using var client = new HttpClient { BaseAddress = new Uri(page.Urls.Last()) };
        // A 404 would make a sender give up what it has. Source: OTLP specification, "Failures": 503 is sent again.
        var answer = await client.Push(null, Traces([Span(new TraceId(1, 1), 1, 0, DateTimeOffset.UtcNow, 5)]));
        (answer.StatusCode, answer.Headers.RetryAfter!.Delta).ShouldBe((HttpStatusCode.ServiceUnavailable, TimeSpan.FromSeconds(1)));
        (await client.Push(null, Logs([(DateTimeOffset.UtcNow, 9, "x")]))).StatusCode.ShouldBe(HttpStatusCode.ServiceUnavailable);
    }

    [Fact]
    public async Task Spans_are_on_the_disk_when_their_sender_is_answered_and_a_share_is_kept_with_its_weight()
    {
        var folder = Folder();
        var (agent, client, page) = await Start(folder, new CollectionPlan(null, Traces: new TracesPlan(0.25)));
        var random = new Random(3);
        var spans = Enumerable.Range(0, 4000).Select(i => Span(new TraceId((ulong)random.NextInt64(), (ulong)random.NextInt64()), (ulong)i + 1, 0, DateTimeOffset.UtcNow, 5)).ToArray();
        foreach (var chunk in spans.Chunk(500))
            (await client.Push(null, Traces(chunk, ("service.name", "ledger"), ("k8s.namespace.name", "auction")))).StatusCode.ShouldBe(HttpStatusCode.OK);
        var kept = Directory.GetFiles(Path.Combine(folder, "buffer"), "*_traces.batch").SelectMany(file => Spans(file)).ToArray();
        kept.ShouldAllBe(span => span.Weight == 4);
        // Four standard deviations of a binomial: √(4000 · ¼ · ¾) = 27.
        kept.Length.ShouldBeInRange(1000 - 4 * 27, 1000 + 4 * 27);
        agent.Status.Sources.Single(source => source.Signal == "traces").ShouldSatisfyAllConditions(source => source.Source.ShouldBe("auction/ledger"), source => source.Read.ShouldBe(kept.Length));
        (await client.Push(null, Logs([(DateTimeOffset.UtcNow, 9, "x")]))).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        await page.DisposeAsync();
        await agent.DisposeAsync();
    }

    private static IReadOnlyList<Skevin.Core.Traces.Span> Spans(string file)
    {
        var bytes = File.ReadAllBytes(file);
        using var zip = new System.IO.Compression.GZipStream(new MemoryStream(bytes[(8 + BitConverter.ToInt32(bytes, 4))..]), System.IO.Compression.CompressionMode.Decompress);
        return OtlpTraces.Read(OpenTelemetry.Proto.Collector.Trace.V1.ExportTraceServiceRequest.Parser.ParseFrom(zip), "c", new StampRange(0, long.MaxValue)).Spans;
    }

    [Fact]
    public async Task A_full_buffer_holds_senders_off_and_loses_nothing()
    {
        var folder = Folder();
        await File.WriteAllTextAsync(Path.Combine(folder, "agent.json"), JsonSerializer.Serialize(new AgentConfiguration("c", 1, "http://127.0.0.1:1", new CollectionPlan(null, Traces: new TracesPlan()), 100), JsonSerializerOptions.Web));
        var agent = new CollectingAgent(Environment(folder));
        await agent.CollectDue(default);
        await using var page = AgentHost.Build(agent, "http://127.0.0.1:0", "http://127.0.0.1:0");
        await page.StartAsync();
        using var client = new HttpClient { BaseAddress = new Uri(page.Urls.Last()) };
        var request = Traces([Span(new TraceId(1, 2), 3, 0, DateTimeOffset.UtcNow, 5)]);
        (await client.Push(null, request)).StatusCode.ShouldBe(HttpStatusCode.OK);
        using var held = await client.Push(null, request);
        (held.StatusCode, held.Headers.RetryAfter!.Delta).ShouldBe((HttpStatusCode.ServiceUnavailable, TimeSpan.FromSeconds(5)));
        await agent.DisposeAsync();
    }

    [Fact]
    public async Task Syslog_is_taken_over_udp_and_tcp_while_the_plan_asks_for_it_and_what_is_none_is_kept_as_text()
    {
        await using var receiver = new SyslogReceiver(Environment(Folder()) with { SyslogPort = 0 });
        receiver.Port.ShouldBe(0);
        await receiver.Listen(true);
        var port = receiver.Port;
        using var udp = new UdpClient();
        await udp.SendAsync("<34>1 2003-10-11T22:14:15.003Z scale-3 weigher - ID47 - over UDP"u8.ToArray(), "127.0.0.1", port);
        await udp.SendAsync("<34>Oct 11 22:14:15 scale-3 weigher: of old"u8.ToArray(), "127.0.0.1", port);
        using (var tcp = new TcpClient())
        {
            await tcp.ConnectAsync(IPAddress.Loopback, port);
            await tcp.GetStream().WriteAsync("26 <13>1 - h a - - - counted\n<13>1 - h a - - - by its line\n"u8.ToArray());
        }
        var got = new List<(string? Host, string Text)>();
        await ApiCalls.Until(() =>
        {
            if (receiver.Take("syslog/north-1") is var (records, _))
                got.AddRange(records.SelectMany(resource => resource.ScopeLogs[0].LogRecords.Select(record => (OtlpAttributes.Read(resource.Resource.Attributes).GetValueOrDefault("host.name"), record.Body.StringValue))));
            return Task.FromResult(got.Count);
        }, count => count == 4, 10, "the messages");
        got.Order().ShouldBe([("127.0.0.1", "<34>Oct 11 22:14:15 scale-3 weigher: of old"), ("h", "by its line"), ("h", "counted"), ("scale-3", "over UDP")]);
        receiver.Error.ShouldNotBeNull().ShouldContain("are not of RFC 5424: after the priority version 1");
        await receiver.Listen(false);
        receiver.Port.ShouldBe(0);
        await receiver.Listen(true);
        receiver.Port.ShouldBeGreaterThan(0);
    }

    [Fact]
    public void The_nodes_kernel_is_read_by_mode_device_and_interface()
    {
        var folder = Folder();
        var cluster = new SimCluster("larkfield-north", 1, 5, new Faults(), 1, DateTimeOffset.UtcNow);
        HostTree.Write(folder, cluster, "north-1", DateTimeOffset.UtcNow.AddDays(-2), DateTimeOffset.UtcNow);
        // A file system is measured where it is mounted: this machine's own root stands under the node's root here.
        Directory.CreateDirectory(Path.Combine(folder, "data"));
        File.WriteAllText(Path.Combine(folder, "proc/1/mounts"), "/dev/a /data ext4 rw 0 0\nproc /proc proc rw 0 0\n/dev/a /again ext4 rw 0 0\n");
        var builder = new MetricsBuilder("host/north-1", DateTimeOffset.UtcNow);
        HostMetrics.Read(folder, PodAttributes.Node("north-1"), builder);
        var samples = OtlpMetrics.Read(MetricsBuilder.Request([builder]), "c", new StampRange(0, long.MaxValue)).Samples;
        double Value(string metric, params (string, string)[] labels) => samples.Single(sample => sample.Key.Metric == metric && labels.All(pair => sample.Key.Labels[pair.Item1] == pair.Item2)).Points.Single().Value;
        string[] modes = ["user", "nice", "system", "idle", "iowait", "interrupt", "steal"];
        // All modes together are the processors' whole time: two days of four cores.
        modes.Sum(mode => Value("system.cpu.time", ("cpu.mode", mode))).ShouldBe(2 * 86400 * 4, 10);
        Value("system.cpu.logical.count").ShouldBe(4);
        new[] { "used", "free", "buffers", "cached" }.Sum(state => Value("system.memory.usage", ("system.memory.state", state))).ShouldBe(16.0 * (1L << 30), 1024);
        samples.Where(sample => sample.Key.Metric == "system.disk.io").Select(sample => sample.Key.Labels["system.device"]).Distinct().ShouldBe(["nvme0n1"]);
        samples.Where(sample => sample.Key.Metric == "system.network.io").Select(sample => sample.Key.Labels["network.interface.name"]).Distinct().ShouldBe(["eth0"]);
        Value("system.filesystem.limit", ("system.filesystem.mountpoint", "/data")).ShouldBe(new DriveInfo(folder).TotalSize);
        samples.Count(sample => sample.Key.Metric == "system.filesystem.limit").ShouldBe(1);
        samples.Where(sample => sample.Key.Kind == SeriesKind.Counter).ShouldAllBe(sample => sample.Points.All(point => point.Start > 0));
    }
}
