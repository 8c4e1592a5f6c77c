using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;
using Skevin.Core.Diagnosis;

namespace Skevin.Core.Tests.Arrivals;

public sealed class ArrivalTests
{
    private static readonly DateTimeOffset Now = DateTimeOffset.Parse("2026-11-24T08:00:00Z");

    private static PodState Agent(bool ready = true) => new("skevin-agents", "skevin-agent-x", "u", "north-1", "Running", null, null, [], "DaemonSet", "skevin-agent",
        [new ContainerState("agent", "i", ready, 0, "running", null, null, default, default, [], null)], [new PodCondition("Ready", ready, null, null, Now.AddHours(-3))], Now.AddHours(-3), "1");

    private static JudgedSource Judge(double? secondsSilent, SourceReport? report = null, Refusal? refusal = null, double readyFor = 7200, int missing = 0, PodState? agent = null)
    {
        var minute = Now.ToUnixTimeSeconds() / 60;
        var expected = new ExpectedSource("metrics", "node/north-1", SourceKind.NodeUsage, null, "agent on north-1", agent ?? Agent(), null, 15, Now.AddSeconds(-readyFor));
        var record = secondsSilent is { } silent
            ? new SourceRecord(Now.AddSeconds(-silent), Now.AddSeconds(-silent), Enumerable.Range(0, 70).Select(i => minute - i).Where(at => at <= minute - missing).ToHashSet())
            : null;
        return ArrivalJudgement.Judge(new SourceEvidence(expected, record, report, refusal), Now);
    }

    private static SourceReport Report(string? error) => new("metrics", "node/north-1", "north-1", Now.AddSeconds(-5), 100, 100, 0, error);

    [Fact]
    public void What_comes_in_time_is_on_time_and_no_rule_speaks()
    {
        var judged = Judge(12);
        (judged.State, judged.ExpectedMinutes, judged.ReceivedMinutes).ShouldBe((ArrivalState.OnTime, 60, 60));
        Diagnoses.Of(judged).ShouldBeNull();
    }

    [Theory]
    [InlineData(37, ArrivalState.OnTime)]
    [InlineData(38, ArrivalState.Late)]
    public void Late_begins_after_two_and_a_half_intervals(double silent, ArrivalState state) => Judge(silent).State.ShouldBe(state);

    [Fact]
    public void A_source_has_sixty_seconds_to_start_and_is_silent_after()
    {
        Judge(null, readyFor: 59).State.ShouldBe(ArrivalState.Starting);
        Judge(null, readyFor: 61).State.ShouldBe(ArrivalState.Silent);
    }

    [Fact]
    public void Missing_minutes_of_the_last_hour_make_it_partial()
    {
        var judged = Judge(5, missing: 10);
        judged.State.ShouldBe(ArrivalState.Partial);
        judged.ReceivedMinutes.ShouldBe(52);
    }

    [Fact]
    public void A_missing_right_is_named_with_the_clusters_words()
    {
        var judged = Judge(300, Report("403 nodes \"north-1\" is forbidden: cannot get resource \"nodes/proxy\""));
        judged.State.ShouldBe(ArrivalState.Refused);
        var cause = Diagnoses.Of(judged).ShouldNotBeNull();
        (cause.Short, cause.Act).ShouldBe(("403 the role lacks a right", CureAct.ApplyAgain));
        cause.Text.ShouldContain("nodes/proxy");
    }

    [Fact]
    public void A_replaced_token_is_named_with_its_time()
    {
        var judged = Judge(300, refusal: new Refusal(Now.AddSeconds(-3), 41, Now.AddMinutes(-6)));
        judged.State.ShouldBe(ArrivalState.Refused);
        var cause = Diagnoses.Of(judged).ShouldNotBeNull();
        (cause.Short, cause.Act).ShouldBe(("401 ingest token replaced", CureAct.HandOutToken));
        cause.Text.ShouldContain("07:54:00");
    }

    [Fact]
    public void A_token_that_is_none_of_ours_is_another_cause() =>
        Diagnoses.Of(Judge(300, refusal: new Refusal(Now.AddSeconds(-3), 1, null)))!.Short.ShouldBe("401 unknown ingest token");

    [Fact]
    public void A_refusal_older_than_the_last_data_is_over() =>
        Judge(5, refusal: new Refusal(Now.AddMinutes(-6), 4, Now.AddMinutes(-7))).State.ShouldBe(ArrivalState.OnTime);

    [Theory]
    [InlineData("connection refused by 198.51.100.7:9464", "nothing listens on the port")]
    [InlineData("malformed: line 3: 'x' is not a number", "the exposition is malformed")]
    [InlineData("no answer of 198.51.100.7:9464/metrics within 10 s", "the agent cannot read it")]
    public void What_the_agent_says_becomes_a_cause(string error, string cause) => Diagnoses.Of(Judge(300, Report(error)))!.Short.ShouldBe(cause);

    [Fact]
    public void A_workload_that_sends_no_spans_is_told_apart_from_an_agent_that_is_silent()
    {
        var pod = new PodState("auction", "ledger-1", "p", "north-1", "Running", null, null, ["198.51.100.7"], "Deployment", "ledger",
            [new ContainerState("ledger", "i", true, 0, "running", null, null, default, default, [], null, SendsSpans: true)], [], Now, null);
        var expected = new ExpectedSource("traces", "auction/ledger", SourceKind.WorkloadSpans, "auction", "its pods, by their agents", Agent(), pod, 60, Now.AddHours(-1));
        Diagnoses.Of(ArrivalJudgement.Judge(new SourceEvidence(expected, null, null, null), Now))!.Short.ShouldBe("the workload sends no spans");
    }

    [Fact]
    public void A_status_record_comes_back_as_it_was_sent()
    {
        var report = new SourceReport("flows", "node/north-1", "north-1", DateTimeOffset.FromUnixTimeMilliseconds(1_795_000_000_000), 10, 9, 1, "no flow exporter has connected yet");
        SourceReport.Of(report.Write(), "north-1").ShouldBe(report);
        SourceReport.Of(new OpenTelemetry.Proto.Logs.V1.LogRecord(), "north-1").ShouldBeNull();
    }

    [Fact]
    public void An_agent_that_is_not_ready_explains_its_sources() =>
        Diagnoses.Of(Judge(300, agent: Agent(ready: false)))!.Short.ShouldBe("the agent is not ready");

    [Fact]
    public void Expected_sources_follow_plan_and_inventory()
    {
        var pod = new PodState("auction", "ledger-1", "p", "north-1", "Running", null, null, ["198.51.100.7"], "Deployment", "ledger",
            [new ContainerState("ledger", "i", true, 0, "running", null, null, default, default, [new ContainerPort("metrics", 9464), new ContainerPort("http", 80)], null, SendsSpans: true)], [], Now, null);
        var inventory = Inventory.Empty with { Nodes = [new NodeState("north-1", true, null, [], [], default, default, "", Now)], Pods = [pod, Agent()] };
        ExpectedSources.Of(Core.Collection.CollectionPlan.Suggested, inventory).Select(source => $"{source.Signal} {source.Name}").ShouldBe(
        [
            "metrics node/north-1", "metrics host/north-1", "metrics cluster state", "metrics auction/ledger-1:9464",
            "logs auction/ledger-1/ledger", "logs skevin-agents/skevin-agent-x/agent", "logs cluster events", "traces auction/ledger", "flows node/north-1",
        ]);
        ExpectedSources.Of(new Core.Collection.CollectionPlan(new Core.Collection.MetricsPlan(Namespaces: ["payout"])), inventory).ShouldNotContain(source => source.Kind == SourceKind.Endpoint);
        ExpectedSources.Of(new Core.Collection.CollectionPlan(null), inventory).ShouldBeEmpty();
    }
}
