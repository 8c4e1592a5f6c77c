using Skevin.Core.Clusters;
using Skevin.Core.Collection;

namespace Skevin.Core.Tests.Collection;

public sealed class CatalogueTests
{
    private static PodState Pod(string name, string workload, bool spans, params ContainerPort[] ports) => new(
        "auction", name, name, "a", "Running", null, null, ["192.0.2.1"], "Deployment", workload, [new ContainerState("c", "i", true, 0, "running", null, null, default, default, ports, null, spans)], [], default, null);

    private static readonly Inventory There = Inventory.Empty with
    {
        Pods =
        [
            Pod("ledger-1", "ledger", true, new ContainerPort("metrics", 9464)), Pod("ledger-2", "ledger", true, new ContainerPort("metrics", 9464)),
            Pod("scale-1", "scale", false, new ContainerPort("http-metrics", 8081)), Pod("agent-1", "agent", false) with { Namespace = "skevin-agents" },
        ],
    };

    private static readonly CollectionPlan Whole = new(new MetricsPlan(), new LogsPlan(), new TracesPlan(), new FlowsPlan());

    private static CatalogueEntry Of(string workload, CollectionPlan plan, params (string Signal, string Source, double Rate)[] rates) =>
        Catalogue.Of(There, plan, new SourceRates(rates.ToDictionary(one => (one.Signal, one.Source), one => one.Rate))).Single(entry => entry.Workload == workload);

    [Fact]
    public void What_each_workload_gives_is_added_up_over_its_pods()
    {
        var ledger = Of("ledger", Whole, ("metrics", "auction/ledger-1:9464", 2), ("metrics", "auction/ledger-2:9464", 3), ("logs", "auction/ledger-1/c", 0.5), ("traces", "auction/ledger", 7));
        (ledger.Pods, ledger.Endpoint, ledger.SamplesPerSecond, ledger.LinesPerSecond, ledger.SpansPerSecond).ShouldBe((2, "metrics 9464", 5, 0.5, 7));
        ledger.Advice.ShouldBeEmpty();
        Of("ledger", Whole).SamplesPerSecond.ShouldBeNull();
        Catalogue.Of(There, Whole, new SourceRates(new Dictionary<(string, string), double>())).Select(entry => entry.Workload).ShouldBe(["ledger", "scale"]);
    }

    [Fact]
    public void A_producer_nobody_has_connected_is_named_with_what_connects_it()
    {
        var scale = Of("scale", Whole);
        scale.Endpoint.ShouldBe("http-metrics 8081");
        scale.Advice.Count.ShouldBe(2);
        scale.Advice[0].ShouldBe("Port http-metrics 8081 looks like an endpoint, but the plan reads ports named metrics: name it so.");
        scale.Advice[1].ShouldContain("OTEL_EXPORTER_OTLP_ENDPOINT");
    }

    [Fact]
    public void What_the_plan_leaves_out_is_said_signal_by_signal()
    {
        Of("ledger", new CollectionPlan(null)).Advice.Select(text => text.Split(';')[0]).ShouldBe(["It has an endpoint on port metrics", "Its lines are not collected", "It sends spans"]);
        Of("ledger", Whole with { Metrics = new MetricsPlan(Namespaces: ["payout"]), Logs = new LogsPlan(Namespaces: ["payout"]) }).Advice.ShouldBe(
            ["It has an endpoint on port metrics; endpoints of auction are not chosen.", "Its lines are not collected; auction is not chosen."]);
    }
}
