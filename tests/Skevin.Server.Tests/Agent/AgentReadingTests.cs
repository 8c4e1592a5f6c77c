using System.Text.Json;
using OpenTelemetry.Proto.Metrics.V1;
using Skevin.Agent.Collection;
using Skevin.Core.Clusters;
using Skevin.Core.Formats.OpenMetrics;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Server.Tests.Agent;

public sealed class AgentReadingTests
{
    private static readonly DateTimeOffset Now = DateTimeOffset.FromUnixTimeSeconds(1_800_000_000);

    private static readonly PodState Ledger = new("auction", "ledger-1", "uid-1", "north-1", "Running", null, null, ["198.51.100.7"], "Deployment", "ledger",
        [new ContainerState("ledger", "i", true, 2, "running", null, null, new Resources(0.5, 1024), new Resources(1, 2048), [], null)], [], Now, null);

    private static Dictionary<string, (double Value, string Unit, string Kind, long Start)> Read(MetricsBuilder builder)
    {
        var read = OtlpMetrics.Read(MetricsBuilder.Request([builder]), "larkfield-north", new StampRange(0, long.MaxValue));
        read.Sources.ShouldHaveSingleItem().Source.ShouldBe(builder.Source);
        return read.Samples.ToDictionary(
            sample => sample.Key.Metric + string.Concat(sample.Key.Labels.Where(pair => !pair.Key.StartsWith("k8s.", StringComparison.Ordinal) && pair.Key != "service.name").Select(pair => $" {pair.Key}={pair.Value}")),
            sample => (sample.Points.Single().Value, sample.Key.Unit, sample.Key.Kind.ToString(), sample.Points.Single().Start));
    }

    [Fact]
    public void A_stats_summary_gives_node_pod_and_container_usage()
    {
        // The form of the node agent's stats API (from memory), shortened.
        using var summary = JsonDocument.Parse("""
            {"node":{"nodeName":"north-1","startTime":"2027-01-01T00:00:00Z","cpu":{"usageCoreNanoSeconds":5000000000},"memory":{"workingSetBytes":100,"availableBytes":900},
              "network":{"rxBytes":7,"txBytes":8},"fs":{"usedBytes":3,"capacityBytes":10}},
             "pods":[{"podRef":{"name":"ledger-1","namespace":"auction","uid":"uid-1"},"cpu":{"usageCoreNanoSeconds":2000000000},
               "containers":[{"name":"ledger","startTime":"2027-01-15T08:00:00Z","cpu":{"usageCoreNanoSeconds":1500000000},"memory":{"workingSetBytes":64}}]},
              {"podRef":{"name":"unknown","namespace":"x","uid":"uid-2"},"cpu":{"usageCoreNanoSeconds":1}}]}
            """);
        var builder = new MetricsBuilder("node/north-1", Now);
        NodeUsage.Read(summary.RootElement, new Dictionary<string, PodState> { ["uid-1"] = Ledger }, builder);
        var read = Read(builder);
        read["k8s.node.cpu.time"].ShouldBe((5, "s", "Counter", DateTimeOffset.Parse("2027-01-01T00:00:00Z").ToUnixTimeMilliseconds()));
        read["container.cpu.time"].ShouldBe((1.5, "s", "Counter", DateTimeOffset.Parse("2027-01-15T08:00:00Z").ToUnixTimeMilliseconds()));
        read["k8s.pod.cpu.time"].Value.ShouldBe(2);
        read["container.memory.working_set"].ShouldBe((64, "By", "Gauge", 0));
        read["k8s.node.memory.available"].Value.ShouldBe(900);
        read["k8s.node.network.io network.io.direction=transmit"].Value.ShouldBe(8);
        read["k8s.node.filesystem.capacity"].Value.ShouldBe(10);
        read.Count.ShouldBe(10);
    }

    [Theory]
    [InlineData("{}")]
    [InlineData("{\"node\":{},\"pods\":[{}]}")]
    [InlineData("{\"node\":{\"nodeName\":\"n\",\"cpu\":{\"usageCoreNanoSeconds\":\"many\"}},\"pods\":{}}")]
    public void A_summary_with_holes_gives_what_it_has(string json)
    {
        using var summary = JsonDocument.Parse(json);
        var builder = new MetricsBuilder("s", Now);
        NodeUsage.Read(summary.RootElement, new Dictionary<string, PodState>(), builder);
        builder.Points.ShouldBe(0);
    }

    [Fact]
    public void Families_of_an_exposition_become_metrics_of_their_kind()
    {
        var reading = OpenMetricsText.Read("""
            # TYPE http_requests counter
            http_requests_total{code="200"} 12
            http_requests_created{code="200"} 1799999000.5
            # TYPE queue_bytes gauge
            # UNIT queue_bytes bytes
            queue_bytes 2048
            # TYPE wait_seconds summary
            wait_seconds{quantile="0.95"} 0.4
            wait_seconds_sum 30
            wait_seconds_count 100
            # TYPE build info
            build_info{version="3.2.1"} 1
            # EOF

            """);
        reading.Error.ShouldBeNull();
        var builder = new MetricsBuilder("auction/ledger-1:9464", Now);
        Exposition.Read(reading, PodAttributes.Of(Ledger, "ledger"), builder);
        var read = Read(builder);
        read["http_requests code=200"].ShouldBe((12, "1", "Counter", 1_799_999_000_500));
        read["queue_bytes"].ShouldBe((2048, "By", "Gauge", 0));
        read["wait_seconds quantile=0.95"].ShouldBe((0.4, "s", "Gauge", 0));
        read["wait_seconds_count"].ShouldBe((100, "1", "Counter", 0));
        read["wait_seconds_sum"].ShouldBe((30, "s", "Counter", 0));
        read["build_info version=3.2.1"].Value.ShouldBe(1);
    }

    [Fact]
    public void A_histograms_cumulative_buckets_become_counts_a_bucket()
    {
        // OpenMetrics: buckets are cumulative with an upper bound; OTLP: one count a bucket and one more than bounds.
        var reading = OpenMetricsText.Read("# TYPE h histogram\nh_bucket{le=\"1\"} 3\nh_bucket{le=\"5\"} 4\nh_bucket{le=\"+Inf\"} 9\nh_sum 50\nh_count 9\nh_created 1799999000.5\n# EOF\n");
        var builder = new MetricsBuilder("s", Now);
        Exposition.Read(reading, [], builder);
        var point = MetricsBuilder.Request([builder]).ResourceMetrics[0].ScopeMetrics[0].Metrics[0].Histogram.DataPoints[0];
        point.ExplicitBounds.ShouldBe([1, 5]);
        point.BucketCounts.ShouldBe([3UL, 1UL, 5UL]);
        (point.Count, point.Sum).ShouldBe((9UL, 50));
        point.StartTimeUnixNano.ShouldBe(1_799_999_000_500_000_000UL);
    }

    [Fact]
    public void The_clusters_state_has_requests_limits_and_wanted_pods()
    {
        var builder = new MetricsBuilder("cluster state", Now);
        ClusterState.Read(Inventory.Empty with
        {
            Nodes = [new NodeState("north-1", false, "x", [], [], new Resources(4, 8), new Resources(4, 8), "", Now)],
            Pods = [Ledger],
            Workloads = [new WorkloadState("auction", "Deployment", "ledger", 3, 2, 2, 3, Now, null), new WorkloadState("a", "DaemonSet", "d", 5, 4, 4, 5, Now, null)],
        }, builder);
        var read = Read(builder);
        read["k8s.node.condition.status"].Value.ShouldBe(0);
        read["k8s.container.restart.count"].ShouldBe((2, "{restart}", "Gauge", 0));
        read["k8s.container.cpu.limit"].ShouldBe((1, "{core}", "Gauge", 0));
        read["k8s.deployment.pod.available"].Value.ShouldBe(2);
        read["k8s.daemonset.node.desired_scheduled"].Value.ShouldBe(5);
    }
}
