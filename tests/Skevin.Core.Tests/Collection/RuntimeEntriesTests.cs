using Skevin.Core.Collection;
using Skevin.Core.Formats.OpenMetrics;

namespace Skevin.Core.Tests.Collection;

/// <summary>A runtime's page, with a container, the idle one and the whole pod under one name; the forms of both kinds of runtime are from memory.</summary>
public sealed class RuntimeEntriesTests
{
    private const string Page = """
        # HELP seconds_total Processor time used.
        # TYPE seconds_total counter
        seconds_total{container="ledger",id="/pods/u1/c7",image="larkfield/ledger:3",name="c7",namespace="auction",pod="ledger-1"} 40
        seconds_total{container="ledger",id="/pods/u1/c8",image="larkfield/ledger:3",name="c8",namespace="auction",pod="ledger-1"} 2
        seconds_total{container="",id="/pods/u1/hold",image="runtime/hold:3",name="hold",namespace="auction",pod="ledger-1"} 1
        seconds_total{container="",id="/pods/u1",image="",name="",namespace="auction",pod="ledger-1"} 43
        seconds_total{container="POD",id="/pods/u2/p",image="",name="p",namespace="auction",pod="clock-1"} 5
        seconds_total{container="",id="/",image="",name="",namespace="",pod=""} 900

        """;

    [Fact]
    public void Containers_idle_ones_whole_pods_and_the_node_are_told_apart()
    {
        var told = RuntimeEntries.Told(OpenMetricsText.Read(Page, strict: false)).Families.ShouldHaveSingleItem();
        told.Samples.Select(sample => (string.Join(' ', sample.Labels.Select(label => $"{label.Key}={label.Value}")), sample.Value)).ShouldBe(
        [
            // The container that ended has given its name to its successor.
            ("k8s.container.name=ledger k8s.namespace.name=auction k8s.pod.name=ledger-1 skevin.runtime.entry=container", 2),
            ("k8s.namespace.name=auction k8s.pod.name=ledger-1 skevin.runtime.entry=idle", 1),
            ("k8s.namespace.name=auction k8s.pod.name=ledger-1 skevin.runtime.entry=pod", 43),
            ("k8s.namespace.name=auction k8s.pod.name=clock-1 skevin.runtime.entry=idle", 5),
            ("skevin.runtime.entry=node", 900),
        ]);
    }

    [Theory]
    [InlineData("metrics/containers", true)]
    [InlineData("/metrics", false)]
    [InlineData("metrics/../secrets", false)]
    [InlineData("metrics?x=1", false)]
    [InlineData("", false)]
    public void The_path_stays_below_the_nodes_agent(string path, bool well) =>
        new CollectionPlan(new MetricsPlan(RuntimePath: path)).Problems().Any().ShouldBe(!well);
}
