using System.Text.Json.Nodes;
using Skevin.Core.Traces;
using Skevin.StandIn.Api;
using Skevin.StandIn.Model;

namespace Skevin.Server.Tests.StandIn;

/// <summary>Sidecars, what they do on the way to a service, and the controller that sets the number of pods: seen in what the model tells of requests.</summary>
public sealed class RouteTests
{
    private static readonly DateTimeOffset Start = new(2026, 11, 26, 9, 0, 0, TimeSpan.Zero);

    private static SimCluster Cluster(Faults? faults = null) => new("larkfield-north", 1, 5, faults ?? new Faults(), 5, Start, null, weight: 1);

    // Labels the namespace and has its pods made anew, as a roll-out does.
    private static void WithSidecars(SimCluster cluster, string ns)
    {
        var key = new ObjectKey("", "namespaces", "", ns);
        var body = (JsonObject)cluster.Store.Get(key)!.Body.DeepClone();
        body["metadata"]!["labels"] = new JsonObject { [RouteRule.SidecarLabel] = "on" };
        cluster.Store.Put(key, body);
        foreach (var pod in cluster.Pods.Where(pod => pod.Namespace == ns))
            cluster.Store.Remove(new ObjectKey("", "pods", ns, pod.Name));
    }

    private static void Rule(SimCluster cluster, string ns, string service, params (string, string)[] rules)
    {
        var key = new ObjectKey("", "services", ns, service);
        var body = (JsonObject)cluster.Store.Get(key)!.Body.DeepClone();
        body["metadata"]!["annotations"] = new JsonObject(rules.Select(rule => KeyValuePair.Create("practice.larkfield.example/" + rule.Item1, (JsonNode?)rule.Item2)));
        cluster.Store.Put(key, body);
    }

    private sealed class Ear : IRequestSink
    {
        public List<ServedRequest> Requests { get; } = [];
        public List<MadeCall> Calls { get; } = [];

        public void Served(ServedRequest request) => Requests.Add(request);

        public void Called(MadeCall call) => Calls.Add(call);

        public void Connected(MadeConnection connection)
        {
        }
    }

    // Requests of a cluster whose pods are as they are, under rules, for a minute.
    private static Ear Listen(SimCluster cluster, Faults faults, IReadOnlyDictionary<string, RouteRule>? rules, double entering = 1)
    {
        var ear = new Ear();
        var load = new LoadModel(faults, 3);
        var model = new RequestModel(load, faults, 7);
        for (var second = 5; second <= 60; second += 5)
            model.Tick(cluster.Pods.OrderBy(pod => pod.Name, StringComparer.Ordinal), Start.AddSeconds(second), 5, ear, rules);
        return ear;
    }

    private static SimCluster Settled(params string[] withSidecars)
    {
        var cluster = Cluster();
        foreach (var ns in withSidecars)
            WithSidecars(cluster, ns);
        for (var i = 1; i <= 12; i++)
            cluster.Advance(Start.AddSeconds(i * 5));
        return cluster;
    }

    [Fact]
    public void Pods_made_in_a_namespace_that_is_labelled_have_one_container_more()
    {
        var cluster = Settled("auction");
        var pods = cluster.Pods.GroupBy(pod => pod.Namespace).ToDictionary(group => group.Key, group => group.ToArray());
        pods["auction"].ShouldAllBe(pod => pod.Sidecar != null && pod.IsReady && pod.SidecarCpuSeconds > 0);
        pods["payout"].ShouldAllBe(pod => pod.Sidecar == null);
        var shown = cluster.Store.Get(new ObjectKey("", "pods", "auction", pods["auction"][0].Name))!.Body;
        shown["spec"]!["containers"]!.AsArray().Select(container => (string)container!["name"]!).ShouldContain("sidecar");
        shown["status"]!["containerStatuses"]!.AsArray().Count.ShouldBe(2);
        var node = pods["auction"][0].Node;
        var summary = StatsSummary.Of(cluster, node, Start.AddMinutes(1))["pods"]!.AsArray().First(pod => (string)pod!["podRef"]!["name"]! == pods["auction"][0].Name)!;
        // A pod uses what its containers use together.
        summary["containers"]!.AsArray().Sum(container => (double)container!["cpu"]!["usageCoreNanoSeconds"]!).ShouldBe((double)summary["cpu"]!["usageCoreNanoSeconds"]!, 10);
    }

    [Fact]
    public void Retries_hide_failures_of_single_pods_and_cost_the_called_more_requests()
    {
        var (cluster, faults) = (Settled("auction"), new Faults());
        // One of the three ledgers fails four times in five.
        var bad = cluster.Pods.First(pod => pod.OwnerName == "ledger");
        void Spoil() => bad.Refuses = 0.8;
        Spoil();
        double Failing(Ear ear) => ear.Calls.Where(call => call.To == "ledger").Average(call => call.Trouble is null ? 0.0 : 1);
        var without = Listen(cluster, faults, new Dictionary<string, RouteRule>());
        var with = Listen(cluster, faults, new Dictionary<string, RouteRule> { ["auction/ledger"] = new(Retries: 2) });
        var others = Listen(cluster, faults, new Dictionary<string, RouteRule> { ["auction/ledger"] = new(EjectAfter: 3, EjectFor: 30) });
        // A third of the calls meet it; all three attempts of a call only with (4/15)³.
        Failing(without).ShouldBe(0.27, 0.06);
        Failing(with).ShouldBe(0.02, 0.02);
        double PerCall(Ear ear) => ear.Requests.Count(request => request.Workload.Name == "ledger") / (double)ear.Calls.Count(call => call.To == "ledger");
        PerCall(without).ShouldBe(1, 0.03);
        PerCall(with).ShouldBe(1 + 4 / 15.0 + 16 / 225.0, 0.08);
        // Left out after three failures in a row: the others get nearly all.
        Failing(others).ShouldBeLessThan(0.5 * Failing(without));
        others.Requests.Count(request => request.Pod == bad).ShouldBeLessThan(without.Requests.Count(request => request.Pod == bad) / 2);
    }

    [Fact]
    public void A_timeout_ends_the_callers_wait_and_a_limit_of_connections_turns_calls_away()
    {
        var (cluster, faults) = (Settled("auction"), new Faults());
        foreach (var pod in cluster.Pods.Where(pod => pod.OwnerName == "ledger"))
            pod.ServiceSeconds = 0.4;
        double[] Durations(Ear ear) => [.. ear.Calls.Where(call => call.To == "ledger").Select(call => call.Duration / 1e9)];
        var patient = Listen(cluster, faults, new Dictionary<string, RouteRule>());
        var hasty = Listen(cluster, faults, new Dictionary<string, RouteRule> { ["auction/ledger"] = new(Timeout: 0.5) });
        Durations(patient).Max().ShouldBeGreaterThan(1);
        // Half a millisecond on the way there and back.
        Durations(hasty).ShouldAllBe(seconds => seconds < 0.502);
        hasty.Calls.Where(call => call.To == "ledger" && call.Status == 504).ShouldNotBeEmpty();
        // The called one knows nothing of it and works on.
        hasty.Requests.Where(request => request.Workload.Name == "ledger").Max(request => request.Duration / 1e9).ShouldBeGreaterThan(1);
        var limited = Listen(cluster, faults, new Dictionary<string, RouteRule> { ["auction/ledger"] = new(Connections: 1) });
        limited.Calls.Where(call => call.To == "ledger" && call.Trouble is not null && call.Trouble.Contains("no connection free")).ShouldNotBeEmpty();
        // Without a sidecar nobody carries the rules out.
        Listen(Settled(), faults, new Dictionary<string, RouteRule> { ["auction/ledger"] = new(Timeout: 0.0001) }).Calls.ShouldNotContain(call => call.To == "ledger" && call.Status == 504);
    }

    [Fact]
    public void Rules_are_read_from_the_annotations_of_services()
    {
        var cluster = Cluster();
        Rule(cluster, "auction", "ledger", ("timeout", "0.8s"), ("retries", "2"), ("connections", "64"), ("eject-after", "5"), ("eject-for", "20s"));
        RouteRule.Of(cluster.Store).ShouldHaveSingleItem().ShouldBe(KeyValuePair.Create("auction/ledger", new RouteRule(0.8, 2, 64, 5, 20)));
        Rule(cluster, "auction", "ledger", ("timeout", "soon"), ("retries", "-1"));
        RouteRule.Of(cluster.Store)["auction/ledger"].ShouldBe(new RouteRule());
    }

    [Fact]
    public void A_burst_brings_pods_up_to_the_bound_and_minutes_after_it_they_go_again()
    {
        var faults = new Faults();
        var cluster = Cluster(faults);
        var rule = new ObjectKey("autoscaling", "horizontalpodautoscalers", "auction", "bid-gateway");
        cluster.Store.Put(rule, (JsonObject)JsonNode.Parse("""
            {"apiVersion":"autoscaling/v2","kind":"HorizontalPodAutoscaler","metadata":{"name":"bid-gateway"},
             "spec":{"scaleTargetRef":{"apiVersion":"apps/v1","kind":"Deployment","name":"bid-gateway"},"minReplicas":2,"maxReplicas":7,
              "metrics":[{"type":"Resource","resource":{"name":"cpu","target":{"type":"Utilization","averageUtilization":60}}}]}}
            """)!);
        int Wanted() => cluster.Store.Get(new ObjectKey("apps", "deployments", "auction", "bid-gateway"))!.Body["spec"]!["replicas"]!.GetValue<int>();
        var at = Start;
        void Go(double minutes)
        {
            for (var end = at.AddMinutes(minutes); at < end;)
                cluster.Advance(at = at.AddSeconds(5));
        }
        Go(7);
        Wanted().ShouldBe(2);
        faults.Set(Faults.Burst, true);
        Go(3);
        Wanted().ShouldBe(7);
        cluster.Pods.Count(pod => pod.OwnerName == "bid-gateway").ShouldBe(7);
        ((double)(int)cluster.Store.Get(rule)!.Body["status"]!["currentMetrics"]![0]!["resource"]!["current"]!["averageUtilization"]!).ShouldBe((100 * cluster.Pods.Where(pod => pod.OwnerName == "bid-gateway" && pod.IsReady).Average(pod => pod.Cores / pod.Request.Cores)), 15.0);
        faults.Set(Faults.Burst, false);
        Go(1);
        // Not yet: five minutes have to be quiet.
        Wanted().ShouldBe(7);
        Go(9);
        Wanted().ShouldBe(2);
        cluster.Store.List("", "events", "auction").Objects.Select(one => (string)one.Body["reason"]!).ShouldContain("ScalingReplicaSet");
    }
}
