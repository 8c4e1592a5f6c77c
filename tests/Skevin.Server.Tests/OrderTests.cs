using System.Net;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Skevin.ClusterApi;
using Skevin.Core.Access;
using Skevin.Core.Collection;

namespace Skevin.Server.Tests;

/// <summary>Clusters ordered from the practice provider: looked through, built in stages, connected, compared with the order, removed.</summary>
public sealed class OrderTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>
{
    private static object Order(string name, string? network = "plain", int keepers = 1, int workers = 1, string version = "v1.33.4-larkfield", string families = "both") => new
    {
        name, version, families, network, services = new[] { "storage" },
        groups = new[] { new { role = "control-plane", size = "small", count = keepers }, new { role = "worker", size = "middle", count = workers } },
    };

    private async Task<JsonNode> Seen(string name) => (await server.Keeper.Json("api/orders")).AsArray().FirstOrDefault(order => (string)order!["order"]!["name"]! == name) ?? new JsonObject();

    private static string[] States(JsonNode order) => [.. order["stages"]!.AsArray().Select(stage => (string)stage!["state"]!)];

    [Fact]
    public async Task An_order_is_looked_through_built_connected_compared_and_removed()
    {
        var keeper = server.Keeper;
        var review = (await keeper.Send("api/orders/review", Order("East", keepers: 2, workers: 40, version: "v0")))!;
        review["problems"]!.AsArray().Select(problem => (string)problem!["field"]!).ShouldBe(["name", "version", "groups", "groups"]);
        ((string)review["problems"]![0]!["text"]!).ShouldContain("Did you mean east?");
        (await keeper.PostAsync("api/orders", JsonContent.Create(Order("East")))).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        var narrow = await server.Person(Roles.All, clusters: ["larkfield-north"]);
        (await narrow.PostAsync("api/orders", JsonContent.Create(Order("larkfield-east")))).StatusCode.ShouldBe(HttpStatusCode.Forbidden);

        // One whose last machine does not answer, one without a network, and one as it should be; they are built side by side.
        await keeper.Send("api/practice/faults/machine-silent", new { on = true }, HttpMethod.Put);
        await keeper.Send("api/orders", Order("larkfield-silent"));
        await ApiCalls.Until(() => Seen("larkfield-silent"), order => (string?)order["stages"]?[0]?["detail"] == "1 of 2", 10, "the machine that answers");
        (await keeper.PostAsync("api/orders", JsonContent.Create(Order("larkfield-silent")))).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        var failed = await ApiCalls.Until(() => Seen("larkfield-silent"), order => States(order)[0] == "failed", 40, "the machine that does not");
        ((string)failed["stages"]![0]!["detail"]!).ShouldContain("larkfield-silent-2 does not answer");
        await keeper.Send("api/practice/faults/machine-silent", new { on = false }, HttpMethod.Put);
        await keeper.Send("api/orders", Order("larkfield-bare", network: null, families: "v4"));
        await keeper.Send("api/orders", Order("larkfield-east"));
        (await narrow.Json("api/orders")).AsArray().Count.ShouldBe(0);

        var built = await ApiCalls.Until(() => Seen("larkfield-east"), order => order["comparison"]?.AsArray().Count > 0 && order["comparison"]!.AsArray().All(row => (bool)row!["matches"]!), 60, "what was ordered");
        States(built).ShouldAllBe(state => state == "done");
        built["comparison"]!.AsArray().Select(row => ((string)row!["what"]!, (string)row["found"]!)).ShouldBe(
            [("Version", "v1.33.4-larkfield"), ("Control-plane nodes", "1"), ("Worker nodes", "1"), ("Cores", "6"), ("Memory, GiB", "24"), ("Address families of every node", "IPv4, IPv6"), ("Network", "present"), ("Nodes ready", "2"), ("Storage class", "present")]);
        await ApiCalls.Until(() => Seen("larkfield-silent"), order => order["connectedAt"] is not null, 60, "the one that goes on when its machine answers");

        // Without a network no node is ready, and the readiness list says what to do; then one is installed, by whatever means.
        await ApiCalls.Until(() => Seen("larkfield-bare"), order => order["connectedAt"] is not null, 60, "the one without a network");
        async Task<JsonNode> Bare(string what) => (await keeper.Json("api/clusters/larkfield-bare"))["readiness"]!.AsArray().First(item => (string)item!["what"]! == what)!;
        ((string)(await ApiCalls.Until(() => Bare("Network"), item => (string)item["level"]! == "critical", 20, "the network that lacks"))["found"]!).ShouldBe("none on larkfield-bare-1, larkfield-bare-2");
        ((string)(await Bare("Name service"))["level"]!).ShouldBe("critical");
        (await Seen("larkfield-bare"))["comparison"]!.AsArray().ShouldAllBe(row => (bool)row!["matches"]!);
        using (var client = ClusterConnection.FromKubeconfig(await BareKubeconfig(), out _)!)
            await ManifestApply.Apply(client, Network, CancellationToken.None);
        await ApiCalls.Until(() => Bare("Name service"), item => (string)item["level"]! == "clear", 60, "the name service behind the network");

        foreach (var name in new[] { "larkfield-silent", "larkfield-bare", "larkfield-east" })
            (await keeper.DeleteAsync("api/orders/" + name)).StatusCode.ShouldBe(HttpStatusCode.NoContent);
        (await keeper.Json("api/orders")).AsArray().Count.ShouldBe(0);
        (await keeper.Json("api/clusters")).AsArray().ShouldBeEmpty();
        Directory.Exists(Path.Combine(server.StandInFolder, "larkfield-east")).ShouldBeFalse();
        (await keeper.DeleteAsync("api/orders/larkfield-east")).StatusCode.ShouldBe(HttpStatusCode.NotFound);
    }

    // The provider hands it to the server alone; the test asks the provider as the server does.
    private async Task<string> BareKubeconfig()
    {
        using var http = new HttpClient();
        var told = await http.GetFromJsonAsync<JsonNode>($"http://127.0.0.1:{server.PracticePort + 3}/provider/clusters/larkfield-bare");
        return (string)told!["kubeconfig"]!;
    }

    private static Manifest Network => new("apps/v1", "DaemonSet", "platform", "own-network", JsonNode.Parse("""
        {"apiVersion":"apps/v1","kind":"DaemonSet","metadata":{"name":"own-network","namespace":"platform"},
         "spec":{"selector":{"matchLabels":{"app.kubernetes.io/name":"own-network"}},
                 "template":{"metadata":{"labels":{"app.kubernetes.io/name":"own-network","app.kubernetes.io/component":"network"}},
                             "spec":{"hostNetwork":true,"containers":[{"name":"network","image":"larkfield/own-network:1.0.0"}]}}}}
        """)!.AsObject());
}
