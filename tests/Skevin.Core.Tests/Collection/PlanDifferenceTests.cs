using CsCheck;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;

namespace Skevin.Core.Tests.Collection;

public sealed class PlanDifferenceTests
{
    private static readonly Inventory Cluster = new("v", [.. new[] { "n-1", "n-2" }.Select(name => new NodeState(name, true, null, [], [], default, default, "", DateTimeOffset.UnixEpoch))], [], [],
    [
        .. new[] { ("auction", "ledger-1"), ("payout", "settle-1") }.Select(one => new PodState(one.Item1, one.Item2, one.Item2, "n-1", "Running", null, null, ["192.0.2.1"], "Deployment", one.Item2[..^2],
            [new ContainerState("c", "i", true, 0, "running", null, null, default, default, [new ContainerPort("metrics", 9464)], null, SendsSpans: true)], [], DateTimeOffset.UnixEpoch, null)),
    ]);

    private static PlanDifference Between(CollectionPlan? before, CollectionPlan after) => PlanDifference.Between(before, after, Cluster);

    [Fact]
    public void The_same_plan_changes_nothing() => Between(CollectionPlan.Suggested, CollectionPlan.Suggested).ShouldSatisfyAllConditions(same => same.Changes.ShouldBeEmpty(), same => same.Consequences.ShouldBeEmpty());

    [Fact]
    public void A_longer_interval_means_fewer_samples_and_wider_slots()
    {
        var plan = new CollectionPlan(new MetricsPlan(EverySeconds: 15));
        var longer = Between(plan, plan with { Metrics = plan.Metrics! with { EverySeconds = 60 } });
        longer.Changes.ShouldBe(["Metrics: every 15 s → every 60 s"]);
        longer.Consequences.ShouldBe(["1/4 of the samples of metrics; slots narrower than 60 s are not answered any more."]);
        Between(plan, plan with { Metrics = plan.Metrics! with { EverySeconds = 5 } }).Consequences.ShouldBe(["3 times the samples of metrics."]);
    }

    [Fact]
    public void A_close_look_is_told_with_its_end_and_ends_by_itself()
    {
        var plan = new CollectionPlan(new MetricsPlan(EverySeconds: 15));
        var until = new DateTimeOffset(2026, 11, 26, 6, 15, 0, TimeSpan.Zero);
        var close = plan with { Metrics = plan.Metrics! with { Closely = new CloseLook(1, until) } };
        Between(plan, close).Changes.ShouldBe(["Metrics: every 1 s until 2026-11-26 06:15 UTC, then every 15 s"]);
        Between(plan, close).Consequences.ShouldBe(["15 times the samples of metrics while the close look lasts; the agents go back by themselves."]);
        Between(close, plan).Changes.ShouldBe(["Metrics: no close look any more"]);
        close.Metrics!.EverySecondsAt(until.AddSeconds(-1)).ShouldBe(1);
        close.Metrics.EverySecondsAt(until).ShouldBe(15);
        (close with { Metrics = close.Metrics with { Closely = new CloseLook(0, until) } }).Problems().ShouldHaveSingleItem();
    }

    [Fact]
    public void What_is_switched_off_ends_its_sources_and_gives_up_its_rights()
    {
        var without = Between(CollectionPlan.Suggested, CollectionPlan.Suggested with { Logs = null });
        without.Changes.ShouldBe(["Lines of containers: off", "Cluster events: off"]);
        without.Consequences[0].ShouldBe("3 sources of logs end: what rules and sheets ask of them stays empty from then on.");
        without.Consequences.ShouldContain(text => text.StartsWith("The agents give up: ") && text.Contains("/var/log/pods") && text.Contains("list events"));
    }

    [Fact]
    public void Fewer_namespaces_end_the_sources_of_the_others()
    {
        var narrowed = Between(CollectionPlan.Suggested, CollectionPlan.Suggested with { Logs = new LogsPlan(Namespaces: ["auction"]), Traces = new TracesPlan(0.25, ["auction"]) });
        narrowed.Changes.ShouldBe(["Lines of containers: from all namespaces → from auction", "Spans: from all namespaces → from auction", "Traces kept: all → 1 in 4"]);
        narrowed.Consequences.ShouldBe(["1 source of logs ends: what rules and sheets ask of it stays empty from then on.", "1 source of traces ends: what rules and sheets ask of it stays empty from then on.",
            "1/4 of the spans; counts stay right, because each kept one says how many it stands for."]);
    }

    [Fact]
    public void The_first_plan_begins_everything() => Between(null, CollectionPlan.Suggested).ShouldSatisfyAllConditions(
        first => first.Changes.Count.ShouldBe(8), first => first.Consequences.ShouldContain("7 sources of metrics begin to be expected."), first => first.Consequences[^1].ShouldStartWith("The agents may more: "));

    [Fact]
    public void Going_there_and_back_ends_what_it_began()
    {
        var plans = Gen.Select(Gen.Bool.Array[6], Gen.Int[1, 300], Gen.Int[0, 2]).Select((on, every, names) => new CollectionPlan(
            on[0] ? new MetricsPlan(on[1], on[2], true, every) : null, on[3] ? new LogsPlan(on[4]) : null, on[5] ? new TracesPlan(1, names == 0 ? null : ["auction"]) : null));
        Gen.Select(plans, plans).Sample((a, b) =>
        {
            var (there, back) = (Between(a, b), Between(b, a));
            there.Changes.Count.ShouldBe(back.Changes.Count);
            there.Consequences.Count(text => text.Contains("to be expected")).ShouldBe(back.Consequences.Count(text => text.Contains("stays empty")));
            (there.Changes.Count == 0).ShouldBe(Between(b, b).Changes.Count == there.Changes.Count);
        });
    }
}
