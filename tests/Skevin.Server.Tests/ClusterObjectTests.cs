using System.Net;
using System.Text.Json.Nodes;
using Skevin.Core.Access;

namespace Skevin.Server.Tests;

/// <summary>Services, entry points, configuration objects and storage of the practice cluster, as they are, broken, and as a reader of one namespace sees them.</summary>
public sealed class ClusterObjectTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>
{
    private const string North = "larkfield-north";

    private Task<JsonNode> Objects(HttpClient? reader = null) => (reader ?? server.Keeper).Json($"api/clusters/{North}/objects");

    private Task Switch(string fault, bool on) => server.Keeper.Send("api/practice/faults/" + fault, new { on }, HttpMethod.Put);

    private static JsonNode? Of(JsonNode view, string list, string inner, string name) => view[list]!.AsArray().FirstOrDefault(row => (string)row![inner]!["name"]! == name);

    private static bool Well(JsonNode view) => view["services"]!.AsArray().Count == 16 && view["claims"]!.AsArray().Count == 4 && new[] { "services", "entryPoints", "claims" }.All(list => view[list]!.AsArray().All(row => (string)row!["level"]! == "clear"));

    [Fact]
    public async Task Objects_are_judged_and_what_leads_nowhere_is_named()
    {
        await server.Keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig(North) });
        var view = await ApiCalls.Until(() => Objects(), Well, 30, "all objects");
        view["lacking"]!.AsArray().ShouldBeEmpty();
        view["storageClasses"]!.AsArray().Select(one => ((string)one!["name"]!, (bool)one["default"]!)).ShouldBe([("fast", false), ("plain", true)]);
        ((int)Of(view, "services", "service", "ledger")!["readyPods"]!).ShouldBe(3);
        Of(view, "services", "service", "room-sensors")!["service"]!["addresses"]!.AsArray().Select(address => (string)address!).ShouldHaveSingleItem().ShouldContain(":");
        Of(view, "configurations", "configuration", "bank-terms")!["usedBy"]!.AsArray().Select(name => (string)name!).ShouldBe(["settle"]);
        ((string)(await server.Keeper.Json($"api/clusters/{North}/configurations/payout/bank-terms"))["terms.yaml"]!).ShouldContain("patience");

        await Switch("certificate-expired", true);
        await Switch("selector-matches-nothing", true);
        await Switch("storage-class-missing", true);
        view = await ApiCalls.Until(() => Objects(), found => (string)Of(found, "services", "service", "lot-registry")!["level"]! == "critical" && (string)Of(found, "claims", "claim", "data-lot-cache-0")!["level"]! == "critical" && found["entryPoints"]![0]!["because"]!.AsArray().Count > 0, 40, "the faults");
        ((string)view["entryPoints"]![0]!["because"]![0]!).ShouldStartWith("Its certificate in auction-gate-tls expired on ");
        ((string)Of(view, "services", "service", "lot-registry")!["because"]![0]!).ShouldBe("Its selector app.kubernetes.io/name=lot-registery matches no pod. The nearest: app.kubernetes.io/name=lot-registry.");
        ((string)Of(view, "claims", "claim", "data-lot-cache-0")!["because"]![0]!).ShouldStartWith("There is no storage class frozen; there are fast, plain.");
        await Switch("certificate-expired", false);
        await Switch("selector-matches-nothing", false);
        await Switch("storage-class-missing", false);
        await ApiCalls.Until(() => Objects(), Well, 60, "all well again");

        // What was left open stands on a list; what concerns Skevin itself is for those who install and keep it.
        string[] Open(JsonNode list) => [.. list.AsArray().Select(item => $"{item!["where"]}: {item["what"]}")];
        var whole = Open(await server.Keeper.Json($"api/clusters/{North}/left-open"));
        whole.ShouldContain("grading/camera-sorter: privileged: camera-sorter");
        whole.ShouldContain("payout/statements: MAIL_PASSWORD in plain text");
        whole.ShouldContain("the cluster: Skevin's account may do everything");
        whole.ShouldContain("Skevin: the demo's password");
        Open(await (await server.Person(Roles.Reader)).Json($"api/clusters/{North}/left-open")).ShouldBe(["grading/camera-sorter: privileged: camera-sorter", "payout/statements: MAIL_PASSWORD in plain text"], ignoreOrder: true);
        Open(await (await server.Person(Roles.All, null, ["payout"])).Json($"api/clusters/{North}/left-open")).ShouldBe(["payout/statements: MAIL_PASSWORD in plain text"]);

        // A reader of one namespace sees its objects, and nothing of the whole cluster.
        var reader = await server.Person(Roles.Reader, null, ["payout"]);
        view = await Objects(reader);
        view["services"]!.AsArray().Select(row => (string)row!["service"]!["name"]!).ShouldBe(["settle", "statements"]);
        view["storageClasses"]!.AsArray().ShouldBeEmpty();
        view["entryPoints"]!.AsArray().ShouldBeEmpty();
        (await reader.GetAsync($"api/clusters/{North}/configurations/auction/opening-hours")).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        (await reader.GetAsync($"api/clusters/{North}/configurations/payout/bank-terms")).StatusCode.ShouldBe(HttpStatusCode.OK);
    }
}
