using System.Diagnostics;
using System.Net;
using System.Net.Http.Json;
using System.Net.Sockets;
using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Npgsql;
using Skevin.Core.Collection;
using Skevin.Core.Formats.ContainerLog;
using Skevin.Core.Traces;
using Skevin.StandIn.Model;
using Skevin.StandIn.Telemetry;
using static Skevin.Server.Tests.Signals.SignalRequests;

namespace Skevin.Server.Tests.Signals;

/// <summary>
/// Agent and server are killed in turn while lines, spans and flows come in: not one may be lost or stand twice. Runs shortly; for longer
/// set SKEVIN_SOAK_MINUTES.
/// </summary>
public sealed class KillSignalsTests
{
    private static readonly TimeSpan Load = TimeSpan.FromMinutes(double.Parse(Environment.GetEnvironmentVariable("SKEVIN_SOAK_MINUTES") ?? "0.45", System.Globalization.CultureInfo.InvariantCulture));

    private sealed class Program(string name, string[] arguments, IReadOnlyDictionary<string, string> settings)
    {
        private Process? _process;

        public void Start()
        {
            var start = new ProcessStartInfo("dotnet", [Path.Combine(AppContext.BaseDirectory, name), .. arguments]) { RedirectStandardOutput = true, RedirectStandardError = true };
            foreach (var (variable, value) in settings)
                start.Environment[variable] = value;
            _process = Process.Start(start)!;
            _process.OutputDataReceived += (_, _) => { };
            _process.ErrorDataReceived += (_, _) => { };
            _process.BeginOutputReadLine();
            _process.BeginErrorReadLine();
        }

        public async Task Kill()
        {
            _process!.Kill();
            await _process.WaitForExitAsync();
        }
    }

    [Fact]
    public async Task Nothing_is_lost_or_doubled_while_agent_and_server_are_killed_in_turn()
    {
        var database = await TestDatabase.Make();
        var ports = TestDatabase.FreePorts(5);
        // A cluster API that knows no pods: lines keep the names their folders say.
        var builder = WebApplication.CreateSlimBuilder();
        builder.WebHost.UseUrls($"http://127.0.0.1:{ports + 4}");
        await using var api = builder.Build();
        api.MapGet("/api/v1/pods", () => Results.Text("""{"kind":"PodList","apiVersion":"v1","metadata":{},"items":[]}""", "application/json"));
        await api.StartAsync();
        var folder = Directory.CreateTempSubdirectory("skevin-soak").FullName;
        var server = new Program("Skevin.Server.dll", [], new Dictionary<string, string> { ["SKEVIN_DATABASE"] = database, ["SKEVIN_PORT"] = $"{ports}", ["SKEVIN_OTLP_GRPC_PORT"] = "0", ["SKEVIN_DEMO"] = "1" });
        var agent = new Program("Skevin.Agent.dll", ["--role", "node"], new Dictionary<string, string>
        {
            ["SKEVIN_NODE"] = "north-1", ["SKEVIN_CONFIGURATION"] = Path.Combine(folder, "agent.json"), ["SKEVIN_TOKEN_FILE"] = Path.Combine(folder, "token"), ["SKEVIN_ACCOUNT_TOKEN_FILE"] = Path.Combine(folder, "token"),
            ["SKEVIN_CLUSTER_API"] = $"http://127.0.0.1:{ports + 4}", ["SKEVIN_BUFFER"] = Path.Combine(folder, "buffer"), ["SKEVIN_HOST_ROOT"] = folder, ["SKEVIN_LISTEN"] = "127.0.0.1",
            ["SKEVIN_STATUS_PORT"] = $"{ports + 1}", ["SKEVIN_OTLP_PORT"] = $"{ports + 2}", ["SKEVIN_IPFIX_PORT"] = $"{ports + 3}",
        });
        await File.WriteAllTextAsync(Path.Combine(folder, "agent.json"), JsonSerializer.Serialize(new AgentConfiguration(
            "soak", 1, $"http://127.0.0.1:{ports}", new CollectionPlan(null, new LogsPlan(Events: false), new TracesPlan(), new FlowsPlan()), 256 << 20), JsonSerializerOptions.Web));
        await File.WriteAllTextAsync(Path.Combine(folder, "token"), "skv_soak");
        using var client = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{ports}"), Timeout = TimeSpan.FromSeconds(30) };
        async Task<bool> Ready()
        {
            try
            {
                return (await client.GetAsync("health/ready")).IsSuccessStatusCode;
            }
            catch (HttpRequestException)
            {
                return false;
            }
        }
        server.Start();
        agent.Start();
        try
        {
            await ApiCalls.Until(Ready, ready => ready, 60, "the server");
            await using (var connection = new NpgsqlConnection(database))
            {
                await connection.OpenAsync();
                await using var insert = new NpgsqlCommand("""
                    insert into cluster (name, protected_kubeconfig, address, connected_at, connected_by) values ('soak', '', '', now(), 't');
                    insert into ingest_token (id, name, cluster_id, hash, for_agents, created_at, created_by) select gen_random_uuid(), 't', id, sha256('skv_soak'), false, now(), 't' from cluster;
                    """, connection);
                await insert.ExecuteNonQueryAsync();
            }
            var begun = DateTimeOffset.UtcNow;
            using var loaded = new CancellationTokenSource(Load);
            var logs = Task.Run(() => WriteLogs(folder, loaded.Token));
            var spans = Task.Run(() => SendSpans(ports + 2, loaded.Token));
            var flows = Task.Run(() => SendFlows(ports + 3, loaded.Token));
            var random = new Random(9);
            for (var turn = 0; !loaded.IsCancellationRequested; turn++)
            {
                await Task.Delay(TimeSpan.FromSeconds(2 + 4 * random.NextDouble()));
                var victim = turn % 2 == 0 ? agent : server;
                await victim.Kill();
                await Task.Delay(TimeSpan.FromSeconds(random.NextDouble()));
                victim.Start();
            }
            var (lines, sentSpans, connections) = (await logs, await spans, await flows);
            lines.ShouldBeGreaterThan(1000);

            await ApiCalls.Until(Ready, ready => ready, 60, "the server");
            (await client.PostAsJsonAsync("api/session", new { email = "amsel@larkfield.example", password = "falling-clock" })).IsSuccessStatusCode.ShouldBeTrue();
            async Task<double> Total(string text) => (await client.Ask(text, begun.AddMinutes(-1), DateTimeOffset.UtcNow.AddMinutes(2), "soak"))["series"]!.AsArray().SelectMany(series => series!["points"]!.AsArray()).Sum(point => (double?)point![1] ?? 0);
            async Task<double> Different(string text)
            {
                var answer = (await client.Send("api/ask", new { text, from = begun.AddMinutes(-1), to = DateTimeOffset.UtcNow.AddMinutes(2), cluster = "soak", page = new { size = 1 } }))!;
                return (double)answer["total"]!;
            }
            await ApiCalls.Until(async () => ((long)await Total("logs -> count"), (long)await Total("spans -> count"), (long)await Total("flows -> count")), seen => seen == (lines, sentSpans, connections), 90,
                $"{lines} lines, {sentSpans} spans and {connections} flows, each once");
            // Each number once: as many different ones as there are.
            var texts = (await client.Send("api/ask", new { text = "logs -> show text", from = begun.AddMinutes(-1), to = DateTimeOffset.UtcNow.AddMinutes(2), cluster = "soak", page = new { size = 10_000 } }))!["rows"]!.AsArray();
            texts.Select(row => (string)row![0]!).Distinct().Count().ShouldBe(texts.Count);
            (await Different("spans")).ShouldBe(sentSpans);
        }
        finally
        {
            await agent.Kill();
            await server.Kill();
        }
    }

    private static long WriteLogs(string folder, CancellationToken stop)
    {
        var (lines, pods) = (0L, Enumerable.Range(1, 3).Select(pod => Path.Combine(folder, $"var/log/pods/auction_ledger-{pod}_u{pod}/ledger")).ToArray());
        foreach (var pod in pods)
            Directory.CreateDirectory(pod);
        for (var round = 0; !stop.IsCancellationRequested; round++)
        {
            foreach (var pod in pods)
            {
                var file = Path.Combine(pod, "0.log");
                using (var writer = File.AppendText(file))
                    for (var i = 0; i < 10; i++)
                    {
                        var time = DateTimeOffset.UtcNow.ToUnixTimeMilliseconds() * 1_000_000 + i;
                        if (i == 3)
                            writer.Write(ContainerLogLine.Write(time, false, true, "first part of "));
                        writer.Write(ContainerLogLine.Write(time, false, false, $"line {lines++}"));
                    }
                if (round % 40 == 39)
                    File.Move(file, $"{file}.{DateTime.UtcNow:yyyyMMdd-HHmmss}-{round:D5}");
            }
            Thread.Sleep(50);
        }
        return lines;
    }

    // What an SDK does: a request is repeated until it is answered.
    private static async Task<long> SendSpans(int port, CancellationToken stop)
    {
        using var client = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{port}"), Timeout = TimeSpan.FromSeconds(10) };
        var sent = 0L;
        while (!stop.IsCancellationRequested)
        {
            var trace = new TraceId(1, (ulong)sent + 1);
            var request = Traces(Enumerable.Range(0, 20).Select(i => Span(trace, (ulong)(sent + i + 1), 0, DateTimeOffset.UtcNow, 5)), ("service.name", "ledger"), ("k8s.namespace.name", "auction"));
            while (true)
            {
                try
                {
                    using var answer = await client.Push(null, request);
                    if (answer.StatusCode == HttpStatusCode.OK)
                        break;
                }
                catch (Exception away) when (away is HttpRequestException or IOException or TaskCanceledException)
                {
                    // Killed; come again.
                }
                await Task.Delay(100, CancellationToken.None);
            }
            sent += 20;
            await Task.Delay(30, CancellationToken.None);
        }
        return sent;
    }

    private static async Task<long> SendFlows(int port, CancellationToken stop)
    {
        var (telemetry, sent) = (new ClusterTelemetry(null), 0L);
        using var exporter = new FlowExporter("north-1", 7, telemetry, _ => port, TimeProvider.System);
        while (!stop.IsCancellationRequested)
        {
            for (var i = 0; i < 20; i++, sent++)
            {
                var now = DateTimeOffset.UtcNow.ToUnixTimeMilliseconds();
                telemetry.Connected(new MadeConnection("north-1", null, IPAddress.Parse("192.0.2.1"), IPAddress.Parse("192.0.2.2"), 1, 8080, 6, false, now - 5, now, 6, 700, "GET", "/", "", 200));
            }
            await exporter.Flush(CancellationToken.None);
            await Task.Delay(100, CancellationToken.None);
        }
        // Until the last message has been taken: a connection that breaks is made again.
        for (var i = 0; i < 100; i++)
        {
            await exporter.Flush(CancellationToken.None);
            await Task.Delay(200, CancellationToken.None);
        }
        return sent;
    }
}
