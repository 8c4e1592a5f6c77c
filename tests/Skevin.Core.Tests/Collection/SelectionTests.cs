using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;

namespace Skevin.Core.Tests.Collection;

public sealed class SelectionTests
{
    private static PodState Pod(string ns, string workload, string node, string tier) => new(
        ns, workload + "-1", workload, node, "Running", null, null, ["198.51.100.1"], "Deployment", workload, [new ContainerState("c", "i", true, 0, "running", null, null, default, default, [new ContainerPort("metrics", 9464)], null)], [], default, null,
        Labels: new Dictionary<string, string> { ["tier"] = tier });

    private static readonly Inventory Cluster = Inventory.Empty with { Pods = [Pod("auction", "ledger", "north-1", "back"), Pod("auction", "clock", "north-2", "front"), Pod("edge", "gatehouse", "north-1", "front")] };

    [Theory]
    [InlineData(null, null, null, "ledger clock gatehouse")]
    [InlineData("auction/ledger,edge/gatehouse", null, null, "ledger gatehouse")]
    [InlineData(null, "tier=front", null, "clock gatehouse")]
    [InlineData(null, "tier=front,tier=back", null, "ledger clock gatehouse")]
    [InlineData(null, null, "north-1", "ledger gatehouse")]
    // Each list that is given has to fit.
    [InlineData("auction/ledger,auction/clock", "tier=front", "north-2", "clock")]
    [InlineData("auction/ledger", "tier=front", null, "")]
    public void Only_pods_that_fit_every_list_are_expected(string? workloads, string? labels, string? nodes, string expected)
    {
        var only = new Selection(workloads?.Split(','), labels?.Split(','), nodes?.Split(','));
        only.Problem.ShouldBeNull();
        foreach (var plan in new[] { new CollectionPlan(new MetricsPlan(false, false, true, Only: only)), new CollectionPlan(null, new LogsPlan(true, false, Only: only)) })
            ExpectedSources.Of(plan, Cluster).Select(source => source.Target!.Workload).ShouldBe(expected.Split(' ', StringSplitOptions.RemoveEmptyEntries), ignoreOrder: true);
    }

    [Fact]
    public void What_cannot_be_chosen_is_named_and_the_difference_says_what_is()
    {
        new CollectionPlan(new MetricsPlan(Only: new Selection(["ledger"]))).Problems().ShouldBe(["'ledger' is no workload such as auction/ledger."]);
        new CollectionPlan(null, new LogsPlan(Only: new Selection(null, ["tier"]))).Problems().ShouldBe(["'tier' is no label such as tier=front."]);
        var difference = PlanDifference.Between(new CollectionPlan(null, new LogsPlan(true, false)), new CollectionPlan(null, new LogsPlan(true, false, Only: new Selection(["auction/ledger"], null, ["north-1"]))), Cluster);
        difference.Changes.ShouldBe(["Lines of containers: all their pods → only of auction/ledger and on north-1"]);
        difference.Consequences.ShouldContain("2 sources of logs end: what rules and sheets ask of them stays empty from then on.");
    }
}
