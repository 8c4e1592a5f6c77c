using Skevin.Core.Clusters;

namespace Skevin.Core.Tests.Clusters;

public sealed class ClusterOrderTests
{
    private static readonly OrderOffers Offers = new("machines", [new("v2", ""), new("v1", "")], [new("small", 2, 8, 0.5), new("large", 8, 32, null)], [new("plain", "plain")], [new("storage", "Storage class")], 9, "EUR");

    private static ClusterOrder Order(params NodeGroup[] groups) => new("east", "v2", groups.Length > 0 ? groups : [new("control-plane", "small", 1), new("worker", "small", 2)], OrderFamilies.Both, "plain", ["storage"]);

    private static OrderReview Review(ClusterOrder order, params string[] taken) => OrderReview.Of(order, Offers, taken.ToHashSet());

    [Fact]
    public void A_sound_order_has_totals_a_price_and_what_is_made()
    {
        var review = Review(Order());
        review.Problems.ShouldBeEmpty();
        (review.Machines, review.Cores, review.MemoryGib, review.PricePerHour).ShouldBe((3, 6, 24, 1.5));
        review.Makes.ShouldContain("2 worker machines, small: 2 cores, 8 GiB each");
        review.Warnings.ShouldHaveSingleItem().ShouldContain("one control-plane machine");
        Review(Order(new("control-plane", "small", 3), new NodeGroup("worker", "large", 1))).PricePerHour.ShouldBeNull();
    }

    [Theory]
    [InlineData("East", "name")]
    [InlineData("1east", "name")]
    [InlineData("east-", "name")]
    [InlineData("", "name")]
    [InlineData("taken", "name")]
    public void A_name_that_cannot_be_is_refused(string name, string field) => Review(Order() with { Name = name }, "taken").Problems.ShouldHaveSingleItem().Field.ShouldBe(field);

    [Fact]
    public void What_is_not_offered_or_cannot_work_is_refused_with_what_there_is()
    {
        static string[] Fields(ClusterOrder order) => [.. Review(order).Problems.Select(problem => problem.Field)];
        Fields(Order() with { Version = "v9" }).ShouldBe(["version"]);
        Fields(Order() with { Network = "other" }).ShouldBe(["network"]);
        Fields(Order() with { Services = ["other"] }).ShouldBe(["services"]);
        Fields(Order(new NodeGroup("worker", "small", 1))).ShouldBe(["groups"]);
        Fields(Order(new NodeGroup("control-plane", "small", 2))).ShouldBe(["groups"]);
        Fields(Order(new NodeGroup("control-plane", "giant", 1))).ShouldBe(["groups"]);
        Fields(Order(new("control-plane", "small", 1), new NodeGroup("worker", "small", 9))).ShouldBe(["groups"]);
        // Whatever is left out in the JSON is no error of the program.
        Review(new ClusterOrder(null!, null!, null!)).Problems.Count.ShouldBeGreaterThan(1);
    }

    [Fact]
    public void Machines_are_numbered_with_those_that_keep_the_cluster_first() =>
        OrderReview.MachinesOf(Order(new("worker", "small", 1), new NodeGroup("control-plane", "large", 1))).ShouldBe([("east-1", "control-plane", "large"), ("east-2", "worker", "small")]);

    [Fact]
    public void A_cluster_is_compared_with_its_order_thing_by_thing()
    {
        NodeState Node(string name, string role, bool ready, params string[] addresses) =>
            new(name, ready, ready ? null : "KubeletNotReady: NetworkReady=false", addresses, [role], new Resources(2, 8.0 * (1L << 30)), default, "v2", default);
        var there = Inventory.Empty with { Version = "v2", Nodes = [Node("east-1", "control-plane", true, "192.0.2.1", "2001:db8::1"), Node("east-2", "worker", true, "192.0.2.2", "2001:db8::2")] };
        var wrong = OrderComparison.Of(Order(), Offers.Sizes, there).Where(row => !row.Matches).Select(row => (row.What, row.Ordered, row.Found));
        wrong.ShouldBe([("Worker nodes", "2", "1"), ("Cores", "6", "4"), ("Memory, GiB", "24", "16"), ("Nodes ready", "3", "2"), ("Storage class", "present", "missing")]);
        OrderComparison.Of(Order(), Offers.Sizes, there with { Nodes = [there.Nodes[0], Node("east-2", "worker", false, "192.0.2.2")] }).Single(row => row.What.StartsWith("Address")).Found.ShouldBe("IPv4");
    }
}
