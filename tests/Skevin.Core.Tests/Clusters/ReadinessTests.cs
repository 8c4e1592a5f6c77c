using Skevin.Core.Clusters;
using Skevin.Core.Collection;

namespace Skevin.Core.Tests.Clusters;

public sealed class ReadinessTests
{
    private static readonly DateTimeOffset Now = DateTimeOffset.Parse("2026-11-24T08:00:00Z");

    private static NodeState Node(string name, string? notReady = null, params string[] addresses) =>
        new(name, notReady is null, notReady, addresses.Length > 0 ? addresses : ["192.0.2.1", "2001:db8::1"], [], new Resources(4, 16), new Resources(4, 16), "", Now);

    private static PodState Pod(string name, string workload, bool ready, string node = "a", string ns = "platform", params string[] addresses) => new(
        ns, name, name, node, "Running", null, null, addresses, "Deployment", workload, [new ContainerState("c", "i", ready, 0, "running", null, null, new Resources(0.5, 1), default, [new ContainerPort("dns", 53)], null)], [], Now, null,
        Labels: new Dictionary<string, string> { ["name"] = workload });

    private static Inventory Whole => Inventory.Empty with
    {
        Nodes = [Node("a"), Node("b")],
        Pods = [Pod("n-1", "names", true, addresses: ["198.51.100.1", "2001:db8::11"]), Pod("x-1", Manifests.Agent, true, "a", Manifests.Namespace), Pod("x-2", Manifests.Agent, true, "b", Manifests.Namespace)],
        Services = [new ServiceState("platform", "names", "ClusterIP", ["192.0.2.53"], null, [new ServicePort("dns", 53, "dns", "UDP")], new Dictionary<string, string> { ["name"] = "names" }, Now)],
        StorageClasses = [new StorageClassState("plain", "p", true, "Delete", true, Now)],
    };

    private static ReadinessItem Item(Inventory inventory, string what) => Readiness.Of(inventory).Single(item => item.What == what);

    [Fact]
    public void A_cluster_that_has_everything_is_clear_all_through() => Readiness.Of(Whole).Where(item => item.Level != HealthLevel.Clear || item.Fix is not null).ShouldBeEmpty();

    [Fact]
    public void Nodes_that_wait_for_a_network_say_the_order_in_which_things_come()
    {
        var without = Whole with { Nodes = [Node("a"), Node("b", "KubeletNotReady: container runtime network not ready: NetworkReady=false reason:NetworkPluginNotReady")] };
        Item(without, "Nodes").Fix.ShouldBe("They wait for the network; see the next line.");
        Item(without, "Network").ShouldSatisfyAllConditions(item => item.Level.ShouldBe(HealthLevel.Critical), item => item.Found.ShouldBe("none on b"), item => item.Fix.ShouldNotBeNull().ShouldContain("then the name service"));
        Item(Whole with { Nodes = [Node("a"), Node("b", "NodeStatusUnknown: stopped")] }, "Network").Level.ShouldBe(HealthLevel.Clear);
    }

    [Fact]
    public void A_family_that_one_node_or_all_pods_lack_is_named()
    {
        Item(Whole with { Nodes = [Node("a"), Node("b", null, "192.0.2.2")] }, "Address families").Found.ShouldBe("b has no IPv6");
        Item(Whole with { Pods = [Pod("n-1", "names", true, addresses: ["198.51.100.1"])] }, "Address families").Found.ShouldBe("nodes have IPv4 and IPv6, pods no IPv6");
    }

    [Fact]
    public void Names_storage_room_and_agents_are_judged()
    {
        Item(Whole with { Services = [] }, "Name service").Level.ShouldBe(HealthLevel.Minor);
        Item(Whole with { Pods = [Pod("n-1", "names", false)] }, "Name service").Level.ShouldBe(HealthLevel.Critical);
        Item(Whole with { StorageClasses = [] }, "Storage").Level.ShouldBe(HealthLevel.Warning);
        Item(Whole with { StorageClasses = [Whole.StorageClasses[0], Whole.StorageClasses[0] with { Name = "fast" }] }, "Storage").Found.ShouldBe("plain and fast are both the default");
        Item(Whole with { Pods = [.. Enumerable.Range(0, 8).Select(i => Pod($"p{i}", "p", true))] }, "Room").Found.ShouldContain("a over 90 %");
        Item(Whole with { Pods = [] }, "Agents").Found.ShouldStartWith("none");
        Item(Whole with { Nodes = [Node("a") with { DiskPressure = true }] }, "Disks").Level.ShouldBe(HealthLevel.Major);
    }

    [Fact]
    public void A_probe_tries_names_and_addresses_of_both_families_and_every_way_between_nodes()
    {
        var service = Whole.Services[0] with { Ports = [new ServicePort("http", 8080, "http", "TCP")], Addresses = ["192.0.2.53", "2001:db8::53"] };
        Probes.ToService(service, ["a"]).Select(one => (one.By, one.Host, one.Port, one.Family)).ShouldBe(
            [("name", "names.platform.svc.cluster.local", 8080, "IPv4"), ("name", "names.platform.svc.cluster.local", 8080, "IPv6"), ("address", "192.0.2.53", 8080, "IPv4"), ("address", "2001:db8::53", 8080, "IPv6")]);
        // A service that speaks UDP alone is looked up, not connected to.
        Probes.ToService(Whole.Services[0], ["a"]).Select(one => (one.By, one.Port)).ShouldBe([("name", 0), ("name", 0)]);
        var agents = new[] { "a", "b", "c" }.Select(node => Pod("x-" + node, Manifests.Agent, true, node, addresses: ["198.51.100.2", "2001:db8::2"])).ToArray();
        Probes.BetweenNodes(agents, 5189).Count().ShouldBe(3 * 2 * 2);
        Probes.ToPod(agents[0], ["a", "b"]).Select(one => one.SameNode).ShouldBe([true, true, false, false]);
    }
}
