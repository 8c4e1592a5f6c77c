using System.Text.Json.Nodes;
using Skevin.StandIn.Api;
using Skevin.StandIn.Model;

namespace Skevin.Server.Tests.StandIn;

public sealed class SimClusterTests
{
    private static readonly DateTimeOffset Begin = DateTimeOffset.Parse("2026-11-24T05:30:00Z");

    private static (SimCluster Cluster, Faults Faults) Make(int seed = 1)
    {
        var faults = new Faults();
        return (new SimCluster("larkfield-north", 1, 5, faults, seed, Begin), faults);
    }

    private static SimPod[] Of(SimCluster cluster, string workload) => [.. cluster.Pods.Where(pod => pod.OwnerName == workload).OrderBy(pod => pod.Name)];

    private static void Scale(SimCluster cluster, string ns, string name, int replicas)
    {
        var key = new ObjectKey("apps", "deployments", ns, name);
        var body = (JsonObject)cluster.Store.Get(key)!.Body.DeepClone();
        body["spec"]!["replicas"] = replicas;
        cluster.Store.Put(key, body);
    }

    private static int Replicas(JsonObject body, string field) => body["status"]?[field]?.GetValue<int>() ?? 0;

    [Fact]
    public void It_begins_long_settled_with_every_pod_placed_and_ready()
    {
        var (cluster, _) = Make();
        cluster.Pods.Count.ShouldBe(Scenario.Workloads.Sum(workload => workload.Replicas));
        cluster.Pods.ShouldAllBe(pod => pod.Step == PodStep.Ready && pod.Node.Length > 0 && pod.Addresses.Length > 0);
        cluster.Pods.SelectMany(pod => pod.Addresses).Distinct().Count().ShouldBe(cluster.Pods.Sum(pod => pod.Addresses.Length));
        // The scenario: room-sensors speak IPv6 only. RFC 3849: 2001:db8::/32 is for documentation.
        Of(cluster, "room-sensors").SelectMany(pod => pod.Addresses).ShouldAllBe(address => address.StartsWith("2001:db8:"));
    }

    [Fact]
    public void A_new_pod_passes_through_pending_and_creating()
    {
        var (cluster, _) = Make();
        Scale(cluster, "auction", "clock", 2);
        var seen = new List<(string Phase, bool Ready)>();
        for (var second = 1; second <= 9; second++)
        {
            cluster.Advance(Begin.AddSeconds(second));
            var fresh = Of(cluster, "clock").MaxBy(pod => pod.Created)!.ToObject();
            var state = ((string)fresh["status"]!["phase"]!, fresh["status"]!["containerStatuses"]?[0]?["ready"]?.GetValue<bool>() ?? false);
            if (seen.Count == 0 || seen[^1] != state)
                seen.Add(state);
        }
        seen.ShouldBe([("Pending", false), ("Running", false), ("Running", true)]);
        Replicas(cluster.Store.Get(new ObjectKey("apps", "deployments", "auction", "clock"))!.Body, "readyReplicas").ShouldBe(2);
        Scale(cluster, "auction", "clock", 0);
        cluster.Advance(Begin.AddSeconds(10));
        Of(cluster, "clock").ShouldBeEmpty();
    }

    [Fact]
    public void A_pod_that_fits_nowhere_says_so()
    {
        var (cluster, _) = Make();
        Scale(cluster, "grading", "camera-sorter", 60);
        for (var second = 1; second <= 5; second++)
            cluster.Advance(Begin.AddSeconds(second));
        var pending = Of(cluster, "camera-sorter").First(pod => pod.Step == PodStep.Unscheduled).ToObject();
        pending["status"]!["conditions"]![0]!["message"]!.GetValue<string>().ShouldContain("Insufficient cpu");
    }

    [Fact]
    public void A_changed_template_replaces_pods_one_at_a_time()
    {
        var (cluster, _) = Make();
        var key = new ObjectKey("apps", "deployments", "auction", "bid-gateway");
        var body = (JsonObject)cluster.Store.Get(key)!.Body.DeepClone();
        body["spec"]!["template"]!["spec"]!["containers"]![0]!["image"] = "larkfield/bid-gateway:3.3.0";
        cluster.Store.Put(key, body);
        var least = int.MaxValue;
        for (var second = 1; second <= 60; second++)
        {
            cluster.Advance(Begin.AddSeconds(second));
            least = Math.Min(least, Of(cluster, "bid-gateway").Count(pod => pod.Step == PodStep.Ready));
        }
        least.ShouldBe(3);
        Of(cluster, "bid-gateway").ShouldAllBe(pod => pod.Container["image"]!.GetValue<string>() == "larkfield/bid-gateway:3.3.0");
    }

    [Fact]
    public void A_leak_ends_at_the_limit_and_restarts_back_off_by_doubling()
    {
        // Cluster documentation, "Restart policy": 10 s, doubling, at most 5 min.
        var (cluster, faults) = Make();
        faults.Set(Faults.Leak, true);
        var pod = Of(cluster, "ledger")[0];
        for (var second = 1; second <= 1800 && pod.Restarts == 0; second++)
            cluster.Advance(Begin.AddSeconds(second));
        pod.Restarts.ShouldBe(1);
        pod.ToObject()["status"]!["containerStatuses"]![0]!["lastState"]!["terminated"]!["reason"]!.GetValue<string>().ShouldBe("OOMKilled");
        var failing = new SimPod { Namespace = "a", Name = "b", Uid = "c", OwnerKind = "Deployment", OwnerName = "b", TemplateHash = "h", TemplateJson = "{}", Created = Begin };
        new[] { 1, 2, 3, 5, 6, 9 }.Select(failures => { failing.RecentFailures = failures; return failing.BackOff.TotalSeconds; }).ShouldBe([10, 20, 40, 160, 300, 300]);
    }

    [Fact]
    public void The_same_seed_gives_the_same_run()
    {
        static string Run(int seed)
        {
            var (cluster, _) = Make(seed);
            cluster.Advance(Begin.AddMinutes(9));
            return string.Join('\n', cluster.Pods.OrderBy(pod => pod.Name).Select(pod => $"{pod.Name} {pod.Node} {pod.CpuSeconds} {pod.RequestsOk} {pod.MemoryBytes}"));
        }
        Run(5).ShouldBe(Run(5));
        Run(5).ShouldNotBe(Run(6));
    }

    [Fact]
    public void Counters_never_fall_while_a_pod_comes_and_goes()
    {
        var (cluster, _) = Make();
        var before = cluster.Nodes.ToDictionary(node => node, cluster.NodeUsage);
        for (var second = 5; second <= 300; second += 5)
        {
            if (second is 60 or 120)
                Scale(cluster, "auction", "bid-gateway", second == 60 ? 1 : 5);
            cluster.Advance(Begin.AddSeconds(second));
            foreach (var node in cluster.Nodes)
            {
                var now = cluster.NodeUsage(node);
                now.CpuSeconds.ShouldBeGreaterThan(before[node].CpuSeconds);
                now.Received.ShouldBeGreaterThanOrEqualTo(before[node].Received);
                before[node] = now;
            }
        }
    }

    [Fact]
    public void What_is_kept_goes_on_where_it_stopped()
    {
        var (cluster, _) = Make();
        cluster.Advance(Begin.AddMinutes(2));
        var kept = System.Text.Json.JsonSerializer.Deserialize<SimClusterState>(System.Text.Json.JsonSerializer.Serialize(cluster.Save()))!;
        var (again, _) = Make(99);
        again.Load(kept);
        again.Pods.Select(pod => (pod.Uid, pod.CpuSeconds, pod.Node)).ShouldBe(cluster.Pods.Select(pod => (pod.Uid, pod.CpuSeconds, pod.Node)), ignoreOrder: true);
        // Pods made after a restart get ids of their own: the same seed must not draw those of the first run again.
        var (anew, _) = Make();
        anew.Load(kept);
        foreach (var pod in anew.Pods.Where(pod => pod.OwnerName == "ledger"))
            anew.Store.Remove(new ObjectKey("", "pods", pod.Namespace, pod.Name));
        anew.Advance(Begin.AddMinutes(3));
        anew.Pods.Select(pod => pod.Uid).ShouldBeUnique();
        anew.Pods.Where(pod => pod.OwnerName == "ledger").Select(pod => pod.Uid).Intersect(kept.Pods.Select(pod => pod.Uid)).ShouldBeEmpty();
        again.Advance(Begin.AddHours(3));
        again.Pods.First(pod => pod.OwnerName == "clock").CpuSeconds.ShouldBeGreaterThan(cluster.Pods.First(pod => pod.OwnerName == "clock").CpuSeconds);
    }

    [Fact]
    public void The_opening_at_six_brings_ten_times_the_requests_in_two_minutes()
    {
        // The scenario in words: ten times the traffic in two minutes, smaller openings every two hours.
        var day = new DateTimeOffset(2026, 11, 24, 0, 0, 0, TimeSpan.Zero);
        (LoadCurve.At(day.AddHours(6).AddMinutes(2)) / LoadCurve.At(day.AddHours(6).AddSeconds(-1))).ShouldBeInRange(9, 11);
        (LoadCurve.At(day.AddHours(10).AddMinutes(2)) / LoadCurve.At(day.AddHours(10).AddSeconds(-1))).ShouldBeInRange(2.5, 3.2);
        for (var minute = 0; minute < 1440; minute++)
            LoadCurve.At(day.AddMinutes(minute)).ShouldBeGreaterThan(0);
    }

    [Fact]
    public void Requests_agree_along_the_graph_and_a_burst_brings_ten_times_as_many()
    {
        static double Requests(bool burst)
        {
            var (cluster, faults) = Make();
            faults.Set(Faults.Burst, burst);
            for (var minute = 9; minute <= 27; minute += 9)
                cluster.Advance(Begin.AddMinutes(minute));
            double Of(string workload) => cluster.Pods.Where(pod => pod.OwnerName == workload).Sum(pod => pod.RequestsOk + pod.RequestsFailed);
            // Shares of the scenario: 0.9 of what enters reaches bid-gateway, 0.5 ledger.
            (Of("bid-gateway") / Of("gatehouse")).ShouldBe(0.9, 0.05);
            (Of("ledger") / Of("gatehouse")).ShouldBe(0.5, 0.04);
            return Of("gatehouse");
        }
        (Requests(true) / Requests(false)).ShouldBe(10, 1);
    }
}
