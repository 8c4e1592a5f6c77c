using System.Diagnostics;
using System.Net;
using System.Net.Http.Headers;
using System.Text.Json.Nodes;
using Skevin.Core.Access;

namespace Skevin.Server.Tests;

/// <summary>A machine outside of clusters: planned in the server, collected from by the agent as a process of its own.</summary>
public sealed class MachineTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>
{
    private const string Machines = "api/clusters/larkfield-south/machines";

    [Fact]
    public async Task Its_agent_asks_for_its_plan_follows_it_and_is_told_apart_when_it_is_gone()
    {
        var keeper = server.Keeper;
        await keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig("larkfield-south") });
        await ApiCalls.Until(() => keeper.Json("api/clusters/larkfield-south"), view => (bool)view["complete"]!, 30, "the inventory");
        var root = Directory.CreateTempSubdirectory("skevin-machine").FullName;
        var log = Path.Combine(root, "weighed.log");
        var made = await keeper.Send(Machines + "/weighbridge", new { hostMetrics = true, everySeconds = 1, files = new[] { log } }, HttpMethod.Put);
        var install = (string)made!["install"]!;
        // The person does what the page shows; here its settings are taken out of the unit.
        var settings = install.Split('\n').Where(line => line.StartsWith("Environment=", StringComparison.Ordinal)).Select(line => line["Environment=".Length..].Split('=', 2)).ToDictionary(pair => pair[0], pair => pair[1]);
        var token = install.Split('\'').First(part => part.StartsWith("skv_", StringComparison.Ordinal));
        File.WriteAllText(Path.Combine(root, "token"), token);
        settings["SKEVIN_SERVER"] = server.Address.ToString();
        (settings["SKEVIN_TOKEN_FILE"], settings["SKEVIN_BUFFER"]) = (Path.Combine(root, "token"), Path.Combine(root, "buffer"));
        var port = TestDatabase.FreePorts(2);
        (settings["SKEVIN_STATUS_PORT"], settings["SKEVIN_OTLP_PORT"]) = (port.ToString(), (port + 1).ToString());
        (await Cause("machine/weighbridge")).ShouldBe("not set up yet");

        Process Start()
        {
            var start = new ProcessStartInfo("dotnet", [Path.Combine(AppContext.BaseDirectory, "Skevin.Agent.dll"), "--role", "machine"]) { RedirectStandardOutput = true, RedirectStandardError = true };
            foreach (var (name, value) in settings)
                start.Environment[name] = value;
            return Process.Start(start)!;
        }
        var agent = Start();
        try
        {
            await Until("machine/weighbridge", "onTime", "the machine's kernel");
            // Nothing was written yet where the plan says, and that is named.
            await ApiCalls.Until(() => Source("machine/weighbridge" + log), source => ((string?)source?["explanation"])?.Contains("no file is there") == true || ((string?)source?["report"]?["error"])?.Contains("no file is there") == true, 30, "the missing file");
            var asked = await keeper.Ask("system.memory.limit -> where host.name = \"weighbridge\" -> max every 1s", DateTimeOffset.UtcNow.AddMinutes(-1), DateTimeOffset.UtcNow, "larkfield-south");
            asked["series"]![0]!["points"]!.AsArray().Last(point => point![1] is not null)![1]!.GetValue<double>().ShouldBe(double.Parse(File.ReadLines("/proc/meminfo").First().Split(' ', StringSplitOptions.RemoveEmptyEntries)[1]) * 1024);
            File.AppendAllText(log, "WARN the scale is not level\n");
            await ApiCalls.Until(() => keeper.Ask("logs -> where host.name = \"weighbridge\"", DateTimeOffset.UtcNow.AddMinutes(-2), DateTimeOffset.UtcNow.AddMinutes(1), "larkfield-south"),
                answer => answer.ToJsonString().Contains("the scale is not level"), 30, "the line");

            // A changed plan is followed without a word to the machine: within half a minute by itself, at once after a start.
            agent.Kill();
            await agent.WaitForExitAsync();
            var changed = await keeper.Send(Machines + "/weighbridge", new { hostMetrics = true, everySeconds = 1, endpoints = new[] { new { name = "scale", url = $"http://127.0.0.1:{port}/status" } } }, HttpMethod.Put);
            changed!["install"].ShouldBeNull("it has its token");
            ((int)changed!["machine"]!["revision"]!).ShouldBe(2);
            agent = Start();
            await ApiCalls.Until(async () => (await keeper.Json(Machines))[0]!, machine => (int?)machine!["askedRevision"] == 2, 30, "the second revision");
            await Until("machine/weighbridge", "onTime", "the machine after its start");
            await ApiCalls.Until(() => Source("machine/weighbridge scale"), source => ((string?)source?["report"]?["error"])?.StartsWith("malformed", StringComparison.Ordinal) == true, 30, "an endpoint that gives no metrics");

            // Its token goes: pushes are refused, and the cause is named.
            var before = await keeper.Json("api/tokens");
            await keeper.Send("api/tokens/" + (string)before.AsArray().First(one => (string)one!["name"]! == "machine weighbridge" && one!["revokedAt"] is null)!["id"]!, new { }, HttpMethod.Delete);
            await ApiCalls.Until(() => Source("machine/weighbridge"), source => (string?)source?["cause"] == "its token is revoked", 60, "the revoked token");
            var again = await keeper.Send(Machines + "/weighbridge/token", new { });
            File.WriteAllText(Path.Combine(root, "token"), ((string)again!["install"]!).Split('\'').First(part => part.StartsWith("skv_", StringComparison.Ordinal)));
            await Until("machine/weighbridge", "onTime", "the machine under its new token");

            await keeper.Send(Machines + "/weighbridge", new { }, HttpMethod.Delete);
            (await keeper.Json(Machines)).AsArray().ShouldBeEmpty();
            (await Source("machine/weighbridge")).ShouldBeNull();
        }
        finally
        {
            agent.Kill();
        }
    }

    [Fact]
    public async Task A_plan_is_given_to_its_own_machine_alone_and_readers_of_a_part_see_none()
    {
        var keeper = server.Keeper;
        var (_, other) = await server.ClusterWithToken("larkfield-lone");
        using var anybody = server.Anonymous();
        async Task<HttpStatusCode> Ask(string? token)
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, "v1/agent/configuration");
            request.Headers.Authorization = token is null ? null : new AuthenticationHeaderValue("Bearer", token);
            using var answer = await anybody.SendAsync(request);
            return answer.StatusCode;
        }
        (await Ask(null)).ShouldBe(HttpStatusCode.Unauthorized);
        (await Ask("skv_00")).ShouldBe(HttpStatusCode.Unauthorized);
        (await Ask(other)).ShouldBe(HttpStatusCode.NotFound, "a token, but of no machine");
        await keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig("larkfield-north") });
        await keeper.Send("api/clusters/larkfield-north/machines/gate", new { hostMetrics = true }, HttpMethod.Put);
        using var part = await server.Person(Roles.Reader, null, ["auction"]);
        (await part.Json("api/clusters/larkfield-north/machines")).AsArray().ShouldBeEmpty();
        (await keeper.Json("api/clusters/larkfield-north/machines")).AsArray().Count.ShouldBe(1);
        foreach (var (name, plan) in new (string, object)[] { ("Gate", new { hostMetrics = true }), ("gate", new { hostMetrics = false }), ("gate", new { files = new[] { "etc/passwd" } }) })
        {
            using var answer = await keeper.PutAsync("api/clusters/larkfield-north/machines/" + name, System.Net.Http.Json.JsonContent.Create(plan));
            answer.StatusCode.ShouldBe(HttpStatusCode.BadRequest, name);
        }
    }

    private async Task<JsonNode?> Source(string name) => (await server.Keeper.Json("api/arrivals?cluster=larkfield-south"))["sources"]!.AsArray().FirstOrDefault(source => (string)source!["source"]! == name);

    private async Task<string?> Cause(string name) => (string?)(await Source(name))?["cause"];

    private Task<JsonNode?> Until(string name, string state, string what) => ApiCalls.Until(() => Source(name), source => (string?)source?["state"] == state, 60, what);
}
