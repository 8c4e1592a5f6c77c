using Skevin.Core.Clusters;
using Skevin.Core.Collection;

namespace Skevin.Core.Tests.Collection;

public sealed class RollOutProgressTests
{
    private static readonly DateTimeOffset Now = DateTimeOffset.Parse("2026-11-24T08:00:00Z");

    private static NodeState Node(string name, bool ready = true) => new(name, ready, ready ? null : "KubeletNotReady: no network", [], [], new Resources(4, 16), new Resources(4, 16), "", Now);

    private static PodState Agent(string node, string revision, string state = "running", string? reason = null, bool ready = true, string workload = Manifests.Agent) => new(
        Manifests.Namespace, $"{workload}-{node}", workload + node, node, state == "running" ? "Running" : "Pending", null, null, [], "DaemonSet", workload,
        [new ContainerState("agent", "registry/agent:1", ready, 0, state, reason, reason is null ? null : "no such image", new Resources(0.05, 64), new Resources(0.5, 256), [], null)], [], Now, revision);

    private static IReadOnlyList<AgentProgress> Progress(params PodState[] pods) =>
        RollOutProgress.Of(Inventory.Empty with { Nodes = [Node("a"), Node("b"), Node("c", false)], Pods = pods }, CollectionPlan.Suggested, 2);

    [Fact]
    public void Each_node_and_the_state_collector_has_a_stage_of_the_new_revision()
    {
        var progress = Progress(Agent("a", "2"), Agent("b", "1"), Agent("b", "2", "waiting", "ContainerCreating", ready: false), Agent("a", "2", workload: Manifests.StateCollector));
        progress.Select(agent => (agent.Place, agent.Stage)).ShouldBe(
            [("a", RollOutStage.Ready), ("b", RollOutStage.Starting), ("c", RollOutStage.Waiting), ("cluster state", RollOutStage.Ready)]);
        progress[2].Why.ShouldNotBeNull().ShouldContain("no network");
    }

    [Fact]
    public void All_agents_together_are_done_going_held_or_halted()
    {
        static RollOutSummary Of(bool held, params PodState[] pods)
        {
            var inventory = Inventory.Empty with
            {
                Nodes = [Node("a"), Node("b")],
                Pods = pods,
                Workloads = [new WorkloadState(Manifests.Namespace, "DaemonSet", Manifests.Agent, 2, 1, 1, 1, Now, "2", held)],
            };
            return RollOutProgress.Summary(inventory, RollOutProgress.Of(inventory, new CollectionPlan(new MetricsPlan(ClusterState: false)), 2), 2);
        }
        var half = new[] { Agent("a", "2"), Agent("b", "1") };
        Of(false, half).State.ShouldBe(RollOutState.Going);
        Of(true, half).ShouldSatisfyAllConditions(one => one.State.ShouldBe(RollOutState.Held), one => one.Updated.ShouldBe(1), one => one.Earlier.ShouldBe(new Dictionary<string, int> { ["1"] = 1 }));
        Of(true, Agent("a", "2"), Agent("b", "2")).State.ShouldBe(RollOutState.Done);
        Of(false, Agent("a", "2", "waiting", "ImagePullBackOff", ready: false), Agent("b", "1")).State.ShouldBe(RollOutState.Halted);
        Skevin.Core.Diagnosis.Troubles.Of(new([], [], new Dictionary<string, TimeSpan>(), Of(true, half), 2)).ShouldHaveSingleItem().Short.ShouldBe("agents of two revisions");
        Skevin.Core.Diagnosis.Troubles.Of(new([], [], new Dictionary<string, TimeSpan>(), Of(false, half), 2)).ShouldBeEmpty();
    }

    [Fact]
    public void An_image_that_cannot_be_pulled_is_stuck_and_says_which()
    {
        var stuck = Progress(Agent("a", "2", "waiting", "ImagePullBackOff", ready: false))[0];
        stuck.Stage.ShouldBe(RollOutStage.Stuck);
        stuck.Why.ShouldNotBeNull().ShouldContain("registry/agent:1");
    }

    [Fact]
    public void Without_cluster_state_there_is_no_state_collector() =>
        RollOutProgress.Of(Inventory.Empty with { Nodes = [Node("a")] }, new CollectionPlan(new MetricsPlan(ClusterState: false)), 1).ShouldHaveSingleItem().Place.ShouldBe("a");

    [Fact]
    public void Requests_and_limits_of_a_node_are_the_sums_of_its_pods_that_have_not_ended()
    {
        var load = Capacity.ByNode(Inventory.Empty with { Nodes = [Node("a"), Node("b")], Pods = [Agent("a", "1"), Agent("a", "1", workload: "x"), Agent("a", "1", workload: "y") with { Phase = "Succeeded" }] });
        load[0].ShouldBe(new NodeLoad("a", new Resources(0.1, 128), new Resources(1, 512), 2));
        load[1].ShouldBe(new NodeLoad("b", default, default, 0));
    }

    [Fact]
    public void A_workload_is_judged_by_its_numbers_and_its_pods()
    {
        var workload = new WorkloadState("auction", "Deployment", "ledger", 3, 2, 2, 3, Now, null);
        var starting = new Health(HealthLevel.Warning, ["ledger is being created."]);
        HealthOf.Workload(workload with { Ready = 3 }, [Health.Well, Health.Well, Health.Well]).Level.ShouldBe(HealthLevel.Clear);
        HealthOf.Workload(workload, [Health.Well, Health.Well, starting]).Level.ShouldBe(HealthLevel.Warning);
        HealthOf.Workload(workload, [Health.Well, Health.Well]).Level.ShouldBe(HealthLevel.Major);
        HealthOf.Workload(workload with { Ready = 0 }, []).Level.ShouldBe(HealthLevel.Critical);
        HealthOf.Workload(workload, [Health.Well, Health.Well, new Health(HealthLevel.Major, ["killed"])]).Because.ShouldBe(["2 of 3 pods are ready.", "killed"]);
    }
}
