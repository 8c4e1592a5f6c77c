using System.Net;
using System.Text.Json.Nodes;
using k8s;
using Skevin.ClusterApi;
using Skevin.Core.Collection;

namespace Skevin.Server.Tests;

/// <summary>A roll-out in stages: one node first, held, let go on, taken back; each revision with a configuration object of its own.</summary>
public sealed class RollOutTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>
{
    private const string South = "larkfield-south";
    private const string Collection = $"api/clusters/{South}/collection";

    private static object Plan(int seconds, bool endpoints = true) => new { metrics = new { resourceUsage = true, clusterState = true, endpoints, everySeconds = seconds, endpointPort = "metrics", endpointPath = "/metrics" } };

    private Task<JsonNode> RollOut(Func<JsonNode, bool> holds, string what) => ApiCalls.Until(async () => (await server.Keeper.Json(Collection))["rollOut"] ?? new JsonObject(), holds, 90, what);

    private static Func<JsonNode, bool> Is(string state, int updated) => seen => (string?)seen["state"] == state && (int)seen["updated"]! == updated;

    [Fact]
    public async Task One_node_goes_first_and_the_others_wait_until_a_person_lets_them()
    {
        await server.Keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig(South) });
        await ApiCalls.Until(() => server.Keeper.Json("api/clusters/" + South), view => (bool)view["complete"]!, 30, "the inventory");
        (await server.Keeper.PostAsync(Collection + "/hold", System.Net.Http.Json.JsonContent.Create(new { held = true }))).StatusCode.ShouldBe(HttpStatusCode.Conflict);
        await server.Keeper.Send(Collection + "/roll-out", new { plan = Plan(5) });
        await RollOut(Is("done", 4), "the first roll-out");
        await Agents_tell_their_pages_to_nobody_else();

        await server.Keeper.Send(Collection + "/roll-out", new { plan = Plan(5, endpoints: false), oneFirst = true });
        var held = await RollOut(Is("held", 1), "one agent of the second revision");
        ((int)held["earlier"]!["1"]!).ShouldBe(3);
        // What waits has its own configuration still, and that is said.
        (await Configurations()).ShouldBe(["skevin-agent-1", "skevin-agent-2"]);
        await ApiCalls.Until(() => server.Keeper.Json("api/arrivals?cluster=" + South), view => view["troubles"]!.AsArray().Any(one => (string)one!["short"]! == "agents of two revisions"), 30, "two revisions");

        await server.Keeper.Send(Collection + "/hold", new { held = false });
        await RollOut(Is("done", 4), "the rest");
        await ApiCalls.Until(() => server.Keeper.Json("api/arrivals?cluster=" + South), view => view["troubles"]!.AsArray().Count == 0, 30, "nothing wrong");

        // Going back is a roll-out of the earlier plan; what no pod is given any more goes.
        var before = (await server.Keeper.Json(Collection))["revisions"]![1]!["plan"]!.DeepClone();
        await server.Keeper.Send(Collection + "/roll-out", new { plan = before });
        await server.Keeper.Send(Collection + "/hold", new { held = true });
        await RollOut(seen => (string?)seen["state"] == "held", "being stopped under way");
        await server.Keeper.Send(Collection + "/hold", new { held = false });
        await RollOut(Is("done", 4), "the way back");
        await server.Keeper.Send(Collection + "/roll-out", new { plan = Plan(10), oneFirst = true });
        (await Configurations()).ShouldNotContain("skevin-agent-1");
        await Removing_leaves_nothing_behind();
        await server.Keeper.Send($"api/clusters/{South}", new { }, HttpMethod.Delete);
    }

    private async Task Removing_leaves_nothing_behind()
    {
        // With logs the agents keep buffer and read marks on their nodes.
        await server.Keeper.Send(Collection + "/roll-out", new { plan = new { metrics = new { resourceUsage = true, everySeconds = 5 }, logs = new { containers = true, events = true } } });
        await RollOut(Is("done", 4), "agents that read logs");
        string[] OnNodes() => [.. Directory.GetDirectories(Path.Combine(server.StandInFolder, South, "nodes")).Select(node => Path.Combine(node, "var/lib/skevin-agent")).Where(Directory.Exists).SelectMany(folder => Directory.GetFileSystemEntries(folder))];
        await ApiCalls.Until(() => Task.FromResult(OnNodes().Length), count => count > 0, 30, "marks on the nodes");

        var removal = await server.Keeper.Send(Collection, new { }, HttpMethod.Delete);
        ((bool)removal!["gone"]!).ShouldBeTrue();
        removal["leftOnNodes"]!.AsArray().ShouldBeEmpty();
        removal["removed"]!.AsArray().Select(one => (string)one!).ShouldBe(["Namespace skevin-agents", "ClusterRoleBinding skevin-agent", "ClusterRole skevin-agent"]);
        using var client = ClusterConnection.FromKubeconfig(server.Kubeconfig(South), out _)!;
        (await client.CoreV1.ListNamespaceAsync()).Items.ShouldNotContain(item => item.Metadata.Name == "skevin-agents");
        (await client.RbacAuthorizationV1.ListClusterRoleAsync(labelSelector: "app.kubernetes.io/managed-by=skevin")).Items.ShouldBeEmpty();
        (await client.RbacAuthorizationV1.ListClusterRoleBindingAsync(labelSelector: "app.kubernetes.io/managed-by=skevin")).Items.ShouldBeEmpty();
        await ApiCalls.Until(async () => (await client.CoreV1.ListPodForAllNamespacesAsync(labelSelector: "app.kubernetes.io/name")).Items.Count(pod => pod.Metadata.NamespaceProperty == "skevin-agents"), count => count == 0, 30, "no agent's pod");
        OnNodes().ShouldBeEmpty();

        var view = await server.Keeper.Json(Collection);
        ((int)view["revision"]!).ShouldBe(0);
        ((bool)view["plan"]!["logs"]!["containers"]!).ShouldBeTrue("the last plan can be rolled out again");
        view["tokens"]!.AsArray().Where(token => (bool)token!["forAgents"]!).ShouldAllBe(token => token!["revokedAt"] != null);
        (await server.Keeper.Json("api/arrivals?cluster=" + South))["sources"]!.AsArray().ShouldBeEmpty();
        // Once more finds nothing, and that is no mistake.
        (await server.Keeper.Send(Collection, new { }, HttpMethod.Delete))!["removed"]!.AsArray().ShouldBeEmpty();
    }

    // Asked through the pod proxy by somebody who may use it but does not know the key.
    private async Task Agents_tell_their_pages_to_nobody_else()
    {
        using var client = ClusterConnection.FromKubeconfig(server.Kubeconfig(South), out _)!;
        var agents = (await client.CoreV1.ListNamespacedPodAsync("skevin-agents")).Items;
        agents.Count.ShouldBe(4);
        foreach (var path in new[] { "probe/IPv4/53/127.0.0.1", "page/auction/clock:9464" })
            (await Should.ThrowAsync<k8s.Autorest.HttpOperationException>(() => client.CoreV1.ConnectGetNamespacedPodProxyWithPathAsync($"{agents[0].Metadata.Name}:5189", "skevin-agents", path)))
                .Response.StatusCode.ShouldBe(HttpStatusCode.Forbidden, path);
    }

    [Fact]
    public void A_key_fits_its_own_hash_alone()
    {
        AgentKey.Fits("a", AgentKey.HashOf("a")).ShouldBeTrue();
        AgentKey.Fits("b", AgentKey.HashOf("a")).ShouldBeFalse();
        AgentKey.Fits(null, AgentKey.HashOf("a")).ShouldBeFalse();
        AgentKey.Fits("", null).ShouldBeFalse();
    }

    private async Task<string[]> Configurations()
    {
        using var client = ClusterConnection.FromKubeconfig(server.Kubeconfig(South), out _)!;
        return [.. (await client.CoreV1.ListNamespacedConfigMapAsync("skevin-agents")).Items.Select(item => item.Metadata.Name).Order(StringComparer.Ordinal)];
    }
}
