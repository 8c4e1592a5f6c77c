using Skevin.Core.Clusters;

namespace Skevin.Core.Tests.Clusters;

public sealed class ObjectHealthTests
{
    private static PodState Pod(string name, string label, bool ready, string port = "http") => new("auction", name, name, "n1", "Running", null, null, [], "Deployment", "ledger",
        [new ContainerState("c", "i", ready, 0, "running", null, null, new(), new(), [new ContainerPort(port, 8080)], null)], [], default, null, null, new Dictionary<string, string> { ["app"] = label });

    private static ServiceState Service(string selects, string target = "http", string type = "ClusterIP", string[]? outside = null) =>
        new("auction", "ledger", type, ["192.0.2.9"], outside, [new ServicePort("http", 80, target, "TCP")], selects.Length == 0 ? new Dictionary<string, string>() : new Dictionary<string, string> { ["app"] = selects }, default);

    private static Inventory With(params PodState[] pods) => Inventory.Empty with { Pods = pods };

    [Theory]
    [InlineData("ledger", "http", HealthLevel.Clear, "")]
    [InlineData("ledgr", "http", HealthLevel.Critical, "Its selector app=ledgr matches no pod. The nearest: app=ledger.")]
    [InlineData("ledger", "grpc", HealthLevel.Critical, "No container of its pods has a port named grpc, which port 80 leads to.")]
    [InlineData("ledger", "8080", HealthLevel.Clear, "")]
    [InlineData("", "http", HealthLevel.Clear, "")]
    public void A_service_is_well_where_it_leads_to_ready_pods(string selects, string target, HealthLevel level, string because)
    {
        var health = ObjectHealth.Of(Service(selects, target), With(Pod("a", "ledger", true), Pod("b", "ledger", true), Pod("c", "clock", true)));
        (health.Level, string.Join(" ", health.Because)).ShouldBe((level, because));
    }

    [Fact]
    public void A_service_whose_pods_are_not_ready_says_how_many_are()
    {
        ObjectHealth.Of(Service("ledger"), With(Pod("a", "ledger", true), Pod("b", "ledger", false))).ShouldSatisfyAllConditions(health => health.Level.ShouldBe(HealthLevel.Minor), health => health.Because.ShouldBe(["1 of its 2 pods are ready."]));
        ObjectHealth.Of(Service("ledger"), With(Pod("a", "ledger", false))).Level.ShouldBe(HealthLevel.Critical);
        ObjectHealth.Of(Service("ledger", type: "LoadBalancer", outside: []), With(Pod("a", "ledger", true))).Because.ShouldBe(["Its outside address is awaited."]);
    }

    [Fact]
    public void An_entry_point_is_as_well_as_what_it_leads_to()
    {
        var inventory = With(Pod("a", "ledger", true)) with { Services = [Service("ledger")] };
        EntryPointState Entry(string service, string port) => new("auction", "gate", "", [], [new EntryRoute("bids.larkfield.example", "/", service, port)], default);
        ObjectHealth.Of(Entry("ledger", "80"), inventory).Level.ShouldBe(HealthLevel.Clear);
        ObjectHealth.Of(Entry("ledger", "http"), inventory).Level.ShouldBe(HealthLevel.Clear);
        ObjectHealth.Of(Entry("ledger", "81"), inventory).Because.ShouldBe(["bids.larkfield.example/ leads to port 81 of ledger, which has 80."]);
        ObjectHealth.Of(Entry("legder", "80"), inventory).Because.ShouldBe(["bids.larkfield.example/ leads to service legder, which is not there."]);
        ObjectHealth.Of(Entry("ledger", "80"), inventory with { Pods = [] }).Level.ShouldBe(HealthLevel.Critical);
    }

    [Fact]
    public void A_claim_names_the_class_that_is_missing()
    {
        var inventory = Inventory.Empty with { StorageClasses = [new StorageClassState("fast", "p", true, "Retain", true, default)] };
        ObjectHealth.Of(new ClaimState("a", "data", "fast", "Bound", "8Gi", default), inventory).Level.ShouldBe(HealthLevel.Clear);
        ObjectHealth.Of(new ClaimState("a", "data", "frozen", "Pending", "8Gi", default), inventory).Because.ShouldBe(["There is no storage class frozen; there is fast. Pods that use it wait."]);
        ObjectHealth.Of(new ClaimState("a", "data", "fast", "Pending", "8Gi", default), inventory).ShouldSatisfyAllConditions(health => health.Level.ShouldBe(HealthLevel.Major), health => health.Because.ShouldBe(["It is pending."]));
    }

}
