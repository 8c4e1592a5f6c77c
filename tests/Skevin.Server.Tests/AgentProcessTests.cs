using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Nodes;
using Skevin.Core.Collection;

namespace Skevin.Server.Tests;

/// <summary>The agent as a process of its own, as it runs in a real pod.</summary>
public sealed class AgentProcessTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>
{
    [Fact]
    public async Task It_reads_under_its_account_pushes_and_sends_after_a_kill_what_it_had_sealed()
    {
        var keeper = server.Keeper;
        await keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig("larkfield-south") });
        await ApiCalls.Until(() => keeper.Json("api/clusters/larkfield-south"), view => (bool)view["complete"]!, 30, "the inventory");
        // The plan puts account and role in place; the stand-in's own agents collect nothing the process is told to.
        await keeper.Send("api/clusters/larkfield-south/collection/roll-out", new { plan = new { metrics = new { resourceUsage = true, clusterState = false, endpoints = false, everySeconds = 300, endpointPort = "metrics", endpointPath = "/metrics" } } });
        var accounts = Path.Combine(server.StandInFolder, "larkfield-south", "pods");
        var account = await ApiCalls.Until(() => Task.FromResult(Directory.Exists(accounts) ? Directory.GetFiles(accounts, "token", SearchOption.AllDirectories).FirstOrDefault(file => file.Contains("account")) : null), file => file is not null, 30, "an agent's account");
        var token = (string)(await keeper.Send("api/tokens", new { name = "process", cluster = "larkfield-south" }))!["token"]!;

        var folder = Directory.CreateTempSubdirectory("skevin-agent").FullName;
        void Configure(Uri address) => File.WriteAllText(Path.Combine(folder, "agent.json"), JsonSerializer.Serialize(new AgentConfiguration(
            "larkfield-south", 1, address.ToString(), new CollectionPlan(new MetricsPlan(true, false, false, 1)), 1 << 20), JsonSerializerOptions.Web));
        // First it finds nobody at the server's address, so that batches wait on its disk when it is killed.
        Configure(new Uri("http://127.0.0.1:1"));
        File.WriteAllText(Path.Combine(folder, "token"), token);
        var port = TestDatabase.FreePorts(3);
        Process Start()
        {
            var start = new ProcessStartInfo("dotnet", [Path.Combine(AppContext.BaseDirectory, "Skevin.Agent.dll"), "--role", "node"]) { RedirectStandardOutput = true, RedirectStandardError = true };
            foreach (var (name, value) in new Dictionary<string, string>
            {
                ["SKEVIN_NODE"] = "south-1", ["SKEVIN_CONFIGURATION"] = Path.Combine(folder, "agent.json"), ["SKEVIN_TOKEN_FILE"] = Path.Combine(folder, "token"),
                ["SKEVIN_ACCOUNT_TOKEN_FILE"] = account!, ["SKEVIN_CLUSTER_API"] = $"http://127.0.0.1:{server.PracticePort + 1}",
                ["SKEVIN_BUFFER"] = Path.Combine(folder, "buffer"), ["SKEVIN_STATUS_PORT"] = port.ToString(), ["SKEVIN_OTLP_PORT"] = (port + 1).ToString(), ["SKEVIN_IPFIX_PORT"] = (port + 2).ToString(), ["SKEVIN_LISTEN"] = "127.0.0.1",
            })
                start.Environment[name] = value;
            return Process.Start(start)!;
        }
        using var status = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{port}/") };
        async Task<JsonNode> Status()
        {
            try
            {
                return await status.Json("status");
            }
            catch (HttpRequestException)
            {
                return new JsonObject();
            }
        }
        var agent = Start();
        try
        {
            var waiting = await ApiCalls.Until(Status, view => (int?)view["batches"] >= 4 && view["lastPush"] is not null, 30, "batches to wait");
            ((int)waiting["lastPush"]!["status"]!).ShouldBe(0);
            waiting["sources"]!.AsArray().Single(source => (string)source!["source"]! == "node/south-1")!["error"].ShouldBeNull();
            agent.Kill();
            await agent.WaitForExitAsync();
            var sealedFiles = Directory.GetFiles(Path.Combine(folder, "buffer"), "*_metrics.batch").Length;
            sealedFiles.ShouldBeGreaterThan(2);
            Configure(server.Address);
            agent = Start();
            await ApiCalls.Until(Status, view => (int?)view["lastPush"]?["status"] == 200 && (int?)view["batches"] == 0, 30, "the buffer to be empty");
            var answer = await keeper.Ask("k8s.node.memory.working_set -> where node = \"south-1\" -> max every 1s", DateTimeOffset.UtcNow.AddMinutes(-2), DateTimeOffset.UtcNow, "larkfield-south");
            answer["series"]![0]!["points"]!.AsArray().Count(point => point![1] is not null).ShouldBeGreaterThanOrEqualTo(sealedFiles);
        }
        finally
        {
            agent.Kill();
        }
    }
}
