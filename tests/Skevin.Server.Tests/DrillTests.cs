using System.Net;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;

namespace Skevin.Server.Tests;

/// <summary>A rule is drilled in the practice cluster: fault, data, alarm, message, and back; and where the chain breaks.</summary>
public sealed class DrillTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>
{
    private const string North = "larkfield-north";

    [Fact]
    public async Task The_whole_way_is_timed_and_a_broken_chain_says_where()
    {
        var keeper = server.Keeper;
        await keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig(North) });
        await ApiCalls.Until(() => keeper.Json("api/clusters/" + North), view => (bool)view["complete"]!, 30, "the inventory");
        await keeper.Send($"api/clusters/{North}/collection/roll-out", new { plan = new { metrics = new { resourceUsage = false, clusterState = true, endpoints = false, everySeconds = 5 } } });
        var told = new List<JsonNode>();
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseSetting("urls", "http://127.0.0.1:0");
        await using var receiver = builder.Build();
        receiver.MapPost("/hook", async (HttpContext context) => told.Add((await JsonNode.ParseAsync(context.Request.Body))!));
        await receiver.StartAsync();
        await keeper.Send("api/contacts", new { name = "drilled", url = receiver.Urls.First() + "/hook" });
        await ApiCalls.Until(() => keeper.Json("api/arrivals?cluster=" + North), view => view["sources"]!.AsArray().Any(source => (string)source!["source"]! == "cluster state" && source["lastSeen"] is not null), 60, "the state of the nodes");
        async Task<string> Rule(string name, string when, string below) =>
            (string)(await keeper.Send("api/alert-rules", new { rule = name, when, below, every = "5s", wait = "2s", tell = new[] { "drilled" }, cluster = North }))!["id"]!;
        var lost = await Rule("a node is not ready", "k8s.node.condition.status -> min", "1");
        var deaf = await Rule("never", "k8s.node.condition.status -> min", "-1");
        // It is judged quiet once before it is drilled.
        await ApiCalls.Until(async () => (await keeper.Json("api/alert-rules")).AsArray().First(rule => (string)rule!["id"]! == lost)!, rule => rule!["judgedTo"] is not null, 30, "the rule to be judged");

        (await keeper.PostAsJsonAsync($"api/alert-rules/{lost}/drill", new { fault = "no-such-fault" })).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        await keeper.Send($"api/alert-rules/{lost}/drill", new { fault = "node-lost" });
        (await keeper.PostAsJsonAsync($"api/alert-rules/{deaf}/drill", new { fault = "slow-bank" })).StatusCode.ShouldBe(HttpStatusCode.Conflict, "one at a time");
        var drill = await Ended(lost);
        drill["hops"]!.AsArray().Select(hop => (string)hop!["state"]!).ShouldAllBe(state => state == "done");
        double Seconds(string hop, string field = "seconds") => (double)drill["hops"]!.AsArray().Single(one => (string)one!["hop"]! == hop)![field]!;
        Seconds("raised").ShouldBeGreaterThanOrEqualTo(Seconds("raised", "leastSeconds"));
        Seconds("cleared").ShouldBeGreaterThanOrEqualTo(Seconds("cleared", "leastSeconds"));
        // Whoever was told knows that it was practice.
        told.SelectMany(message => message["messages"]?.AsArray().ToArray() ?? [message]).Select(message => ((string)message!["transition"]!, (bool)message["drill"]!)).ShouldBe([("raised", true), ("cleared", true)]);
        (await keeper.Json("api/practice/faults")).AsArray().Where(fault => (string)fault!["name"]! is "node-lost" or "slow-bank").ShouldAllBe(fault => !(bool)fault!["on"]!);
        // It is kept with its rule.
        ((string)(await keeper.Json("api/alert-rules")).AsArray().First(rule => (string)rule!["id"]! == lost)!["drill"]!["fault"]!).ShouldBe("node-lost");

        // Broken off: no fault is left, and the hop that was waited for says so.
        await keeper.Send($"api/alert-rules/{deaf}/drill", new { fault = "slow-bank" });
        await ApiCalls.Until(() => keeper.Json("api/practice/faults"), faults => faults.AsArray().Any(fault => (string)fault!["name"]! == "slow-bank" && (bool)fault["on"]!), 30, "the fault");
        await keeper.Send($"api/alert-rules/{deaf}/drill", new { }, HttpMethod.Delete);
        var broken = await Ended(deaf);
        (await keeper.Json("api/practice/faults")).AsArray().Where(fault => (string)fault!["name"]! is "node-lost" or "slow-bank").ShouldAllBe(fault => !(bool)fault!["on"]!);
        broken["hops"]!.AsArray().Where(hop => (string)hop!["state"]! == "broken").Select(hop => ((string)hop!["hop"]!, (string)hop["said"]!)).First().ShouldBe(("beyond", "It was broken off."));
    }

    private Task<JsonNode> Ended(string rule) => ApiCalls.Until(() => server.Keeper.Json($"api/alert-rules/{rule}/drill"), drill => drill["endedAt"] is not null, 120, "the end of the drill");
}
