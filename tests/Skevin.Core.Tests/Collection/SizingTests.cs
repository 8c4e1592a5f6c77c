using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;

namespace Skevin.Core.Tests.Collection;

public sealed class SizingTests
{
    private static readonly DateTimeOffset Now = DateTimeOffset.Parse("2026-11-24T08:00:00Z");

    private static PodState Pod(string name, bool metrics) => new(
        "auction", name, name, "a", "Running", null, null, ["192.0.2.1"], "Deployment", "w", [new ContainerState("c", "i", true, 0, "running", null, null, new Resources(1, 1), new Resources(1, 0), metrics ? [new ContainerPort("metrics", 1)] : [], null, true)], [], Now, null);

    private static readonly Inventory There = Inventory.Empty with
    {
        Nodes = [new NodeState("a", true, null, [], [], default, default, "", Now)],
        Pods = [Pod("p", true), Pod("q", false)],
        Workloads = [new("auction", "Deployment", "w", 2, 2, 2, 2, Now, null)],
    };

    private static readonly CollectionPlan Plan = new(new MetricsPlan(EverySeconds: 10), new LogsPlan(), new TracesPlan(0.5), new FlowsPlan());

    private static PlanSize Of(CollectionPlan plan, CollectionPlan? inForce = null, MeasuredKinds? measured = null, Prices? prices = null) => Sizing.Of(plan, inForce, There, measured ?? MeasuredKinds.None, prices, _ => TimeSpan.FromDays(10), Now);

    [Fact]
    public void Before_anything_is_measured_usage_and_state_are_counted_and_the_rest_is_usual_or_not_known()
    {
        var size = Of(Plan);
        ExpectedAmount Kind(string what) => size.Amounts.Single(amount => amount.What == what);
        // One node of 8, two pods of 5 and a container of 3 each.
        Kind("nodes, pods and containers").ShouldBe(new ExpectedAmount("metrics", "nodes, pods and containers", 1, 24, 2.4, SizeBasis.Counted));
        // 3 of the node, 2 of the workload, and each pod 1 with a container of 2, a request of both and a limit of one.
        Kind("state of the cluster").Series.ShouldBe(3 + 2 + 2 * (1 + 2 + 3));
        (Kind("application endpoints").Basis, Kind("application endpoints").Sources).ShouldBe((SizeBasis.Usual, 1));
        (Kind("spans").PerSecond, Kind("flow records").Basis).ShouldBe((null, SizeBasis.Unknown));
        size.PerSecond.Keys.ShouldBe(["metrics", "logs"], ignoreOrder: true);
        size.PricePerMonth.ShouldBeNull();
    }

    [Fact]
    public void What_was_measured_is_carried_over_to_interval_share_and_number_of_sources()
    {
        var measured = new MeasuredKinds(
            new Dictionary<SourceKind, double> { [SourceKind.Endpoint] = 30, [SourceKind.WorkloadSpans] = 8, [SourceKind.ContainerLog] = 5 },
            new Dictionary<SourceKind, int> { [SourceKind.Endpoint] = 3, [SourceKind.WorkloadSpans] = 1, [SourceKind.ContainerLog] = 1 }, new Dictionary<string, double> { ["logs"] = 100 });
        var size = Of(Plan, Plan with { Metrics = new MetricsPlan(EverySeconds: 30), Traces = new TracesPlan() }, measured);
        // One endpoint of three, three times as often.
        size.Amounts.Single(amount => amount.What == "application endpoints").ShouldBe(new ExpectedAmount("metrics", "application endpoints", 1, 300, 30, SizeBasis.Measured));
        size.PerSecond["traces"].ShouldBe(4);
        size.PerSecond["logs"].ShouldBe(10);
        size.BytesPerDay["logs"].ShouldBe(10 * 86_400 * 100);
    }

    [Fact]
    public void The_price_is_of_what_is_taken_in_and_of_what_is_kept()
    {
        var plan = new CollectionPlan(null, new LogsPlan(Events: false));
        var prices = new Prices("EUR", new Dictionary<string, double> { ["logs"] = 0.5 }, 2);
        var size = Of(plan, null, MeasuredKinds.None with { BytesPerItem = new Dictionary<string, double> { ["logs"] = 1000 } }, prices);
        // Two containers, a line a second each: 5.184 million lines a month, 172.8 MB a day kept ten days.
        size.PricePerMonth!.Value.ShouldBe(5.184 * 0.5 + 172.8e6 * 10 / (1L << 30) * 2, 1e-9);
        (prices with { PerGibMonth = -1 }).Problem.ShouldNotBeNull();
        (prices with { Currency = "" }).Problem.ShouldNotBeNull();
        prices.Problem.ShouldBeNull();
    }
}
