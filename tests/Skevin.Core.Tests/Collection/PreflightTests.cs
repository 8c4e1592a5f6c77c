using Skevin.Core.Clusters;
using Skevin.Core.Collection;

namespace Skevin.Core.Tests.Collection;

public sealed class PreflightTests
{
    private const double Gib = 1L << 30;
    private static readonly PreflightEvidence Well = new([], new Uri("https://skevin.example"), new Uri("https://cluster.example:6443"), "registry.example/skevin/agent:0.1.0");

    private static NodeState Node(string name, bool ready = true, double cores = 4) => new(name, ready, ready ? null : "gone", [], [], new(cores, 8 * Gib), new(cores, 8 * Gib), "v1", default);

    private static PodState Pod(string workload, string node, double cores, string port = "metrics", string ns = "auction", bool spans = false) => new(
        ns, workload + "-1", workload, node, "Running", null, null, ["198.51.100.1"], "Deployment", workload,
        [new ContainerState("c", "i", true, 0, "running", null, null, new(cores, 0), default, [new ContainerPort(port, 9464)], null) { SendsSpans = spans }], [], default, null);

    private static readonly Inventory Cluster = Inventory.Empty with { Nodes = [Node("north-1"), Node("north-2")], Pods = [Pod("ledger", "north-1", 1, spans: true)] };

    private static ReadinessItem? Item(string what, Inventory? inventory = null, PreflightEvidence? evidence = null, CollectionPlan? plan = null) =>
        Preflight.Of(plan ?? CollectionPlan.Suggested, inventory ?? Cluster, evidence ?? Well).SingleOrDefault(item => item.What == what);

    [Fact]
    public void Where_nothing_holds_it_up_every_item_is_clear() => Preflight.Of(CollectionPlan.Suggested, Cluster, Well).ShouldAllBe(item => item.Level == HealthLevel.Clear && item.Fix == null);

    [Fact]
    public void A_right_that_lacks_is_named_and_stands_first()
    {
        var items = Preflight.Of(CollectionPlan.Suggested, Cluster with { Nodes = [Node("north-1"), Node("north-2", ready: false)] }, Well with { Denied = [new("patch", "apps", "daemonsets"), new("get", "", "nodes/proxy"), new("patch", "", "secrets")] });
        items[0].ShouldBe(new ReadinessItem("Rights of the account", HealthLevel.Critical, "it may not patch daemonsets, secrets, get nodes/proxy", "Give them to the account of the kubeconfig, or connect the cluster with another one."));
        items[1].ShouldSatisfyAllConditions(item => item.What.ShouldBe("Nodes"), item => item.Found.ShouldBe("north-2 is not ready"), item => item.Level.ShouldBe(HealthLevel.Minor));
        Item("Rights of the account", evidence: Well with { Denied = null })!.Level.ShouldBe(HealthLevel.Warning);
    }

    [Fact]
    public void A_node_without_room_is_named_unless_its_agent_is_there_already()
    {
        var full = Cluster with { Pods = [.. Cluster.Pods, Pod("sorter", "north-2", 3.97)] };
        Item("Room", full)!.Found.ShouldBe("north-2 has no room for 50m of processor and 64 MiB");
        Item("Room", full with { Pods = [.. full.Pods, Pod(Manifests.Agent, "north-2", 0.05, ns: Manifests.Namespace)] })!.Level.ShouldBe(HealthLevel.Clear);
    }

    [Theory]
    [InlineData("http://127.0.0.1:5180", "https://cluster.example", HealthLevel.Critical)]
    [InlineData("http://127.0.0.1:5180", "http://127.0.0.1:5190", HealthLevel.Clear)]
    [InlineData("http://skevin.example", "https://cluster.example", HealthLevel.Warning)]
    public void An_address_agents_cannot_reach_is_said(string server, string api, HealthLevel level) => Item("Way to this server", evidence: Well with { Server = new(server), ClusterApi = new(api) })!.Level.ShouldBe(level);

    [Theory]
    [InlineData("skevin/agent:0.1.0", HealthLevel.Minor)]
    [InlineData("localhost/skevin/agent:0.1.0", HealthLevel.Clear)]
    [InlineData("registry.example:5000/agent", HealthLevel.Clear)]
    [InlineData("agent", HealthLevel.Minor)]
    public void An_image_without_a_registry_is_said(string image, HealthLevel level) => Item("Image of the agent", evidence: Well with { Image = image })!.Level.ShouldBe(level);

    [Fact]
    public void A_plan_that_finds_nothing_to_read_is_said()
    {
        var plan = CollectionPlan.Suggested with { Metrics = new MetricsPlan(EndpointPort: "stats"), Traces = new TracesPlan(Namespaces: ["payout"]) };
        (Item("Application endpoints", plan: plan)!.Level, Item("Spans", plan: plan)!.Level).ShouldBe((HealthLevel.Warning, HealthLevel.Warning));
        (Item("Application endpoints", plan: new CollectionPlan(null, new LogsPlan())), Item("Spans", plan: new CollectionPlan(null, new LogsPlan()))).ShouldBe((null, null));
    }

    [Fact]
    public void The_rights_of_a_roll_out_are_those_of_its_manifests()
    {
        var plan = CollectionPlan.Suggested with { Traces = new TracesPlan(0.1, null, new TailPlan()) };
        var kinds = Manifests.For(new AgentConfiguration("c", 1, "https://skevin.example", plan, 1), "token").Select(manifest => manifest.Kind.ToLowerInvariant() + "s").Distinct();
        Preflight.RightsFor(plan).Where(right => right.Verb == "patch").Select(right => right.Resource).ShouldBe(kinds, ignoreOrder: true);
        Preflight.RightsFor(plan).ShouldContain(new RollOutRight("get", "", "nodes/proxy"));
    }
}
