using k8s;
using k8s.Models;
using Skevin.ClusterApi;
using Skevin.Core.Clusters;

namespace Skevin.Core.Tests.Clusters;

public sealed class ClusterTests
{
    [Theory]
    // Cluster documentation, "Resource units in Kubernetes": 250m is 0.25 core; Mi is 2^20, M is 10^6.
    [InlineData("250m", 0.25)]
    [InlineData("0.1", 0.1)]
    [InlineData("64Mi", 67108864)]
    [InlineData("128M", 128000000)]
    [InlineData("129e6", 129000000)]
    [InlineData("2", 2)]
    public void Quantities_are_read(string text, double value) => Quantity.Parse(text).ShouldNotBeNull().ShouldBe(value, value * 1e-12);

    [Theory]
    [InlineData("")]
    [InlineData("five")]
    [InlineData("1Q")]
    public void What_is_no_quantity_is_null(string text) => Quantity.Parse(text).ShouldBeNull();

    private static PodState Pod(string state, string? reason, Termination? last = null, string phase = "Running", string node = "north-1") => new(
        "auction", "ledger-1", "u", node, phase, null, null, [], "Deployment", "ledger",
        [new ContainerState("ledger", "larkfield/ledger:3.2.1", state == "ready", 1, state == "ready" ? "running" : state, reason, null, default, default, [], last)],
        [], default, null);

    [Fact]
    public void A_container_being_created_is_a_start_not_a_fault()
    {
        var health = HealthOf.Pod(Pod("waiting", "ContainerCreating", phase: "Pending"), null);
        health.Level.ShouldBe(HealthLevel.Warning);
        health.Because.ShouldBe(["ledger is being created."]);
    }

    [Fact]
    public void A_container_killed_for_memory_says_so_with_its_time()
    {
        var health = HealthOf.Pod(Pod("waiting", "CrashLoopBackOff", new Termination("OOMKilled", 137, DateTimeOffset.Parse("2026-11-24T07:07:00Z"))), null);
        health.Level.ShouldBe(HealthLevel.Major);
        health.Because[0].ShouldContain("killed at its memory limit at 07:07:00");
    }

    [Fact]
    public void A_lost_node_explains_its_pods()
    {
        var node = new NodeState("north-1", false, "NodeStatusUnknown: no word from the node agent", [], [], default, default, "", default);
        HealthOf.Pod(Pod("ready", null), node).Because.ShouldContain(cause => cause.Contains("north-1 is not ready"));
        HealthOf.Pod(Pod("ready", null), node with { Ready = true }).Level.ShouldBe(HealthLevel.Clear);
    }

    [Fact]
    public void A_pod_nobody_takes_gives_the_schedulers_words()
    {
        var pod = Pod("waiting", null, phase: "Pending", node: "") with { Containers = [], Conditions = [new PodCondition("PodScheduled", false, "Unschedulable", "0/5 nodes are available: 5 Insufficient cpu.", null)] };
        HealthOf.Pod(pod, null).Because[0].ShouldContain("Insufficient cpu");
    }

    [Fact]
    public void A_replica_set_stands_for_its_deployment()
    {
        var pod = KubernetesJson.Deserialize<V1Pod>("""
            {"metadata":{"name":"ledger-7f6-qx2","namespace":"auction","labels":{"pod-template-hash":"7f6"},"ownerReferences":[{"apiVersion":"apps/v1","kind":"ReplicaSet","name":"ledger-7f6","uid":"1","controller":true}]},
             "spec":{"containers":[{"name":"ledger","resources":{"requests":{"cpu":"250m","memory":"64Mi"}},"ports":[{"name":"metrics","containerPort":9464}]}]},
             "status":{"phase":"Running","podIPs":[{"ip":"198.51.100.7"},{"ip":"2001:db8::7"}],"containerStatuses":[{"name":"ledger","ready":true,"restartCount":2,"image":"i","imageID":"","state":{"running":{}}}]}}
            """);
        var state = InventoryMapping.Pod(pod);
        (state.WorkloadKind, state.Workload, state.Ready, state.Restarts).ShouldBe(("Deployment", "ledger", true, 2));
        state.Addresses.ShouldBe(["198.51.100.7", "2001:db8::7"]);
        state.Containers[0].Request.ShouldBe(new Resources(0.25, 67108864));
        state.Containers[0].Ports.ShouldBe([new Skevin.Core.Clusters.ContainerPort("metrics", 9464)]);
    }

    [Theory]
    [InlineData("exec: {apiVersion: client.authentication.k8s.io/v1, command: /bin/rm}", "starting a program")]
    [InlineData("client-certificate: /etc/passwd", "points at files")]
    public void A_kubeconfig_that_would_run_or_read_something_here_is_refused(string user, string says)
    {
        var text = $"""
            apiVersion: v1
            kind: Config
            current-context: c
            contexts: [{"{"}name: c, context: {"{"}cluster: c, user: u{"}"}{"}"}]
            clusters: [{"{"}name: c, cluster: {"{"}server: "http://127.0.0.1:1"{"}"}{"}"}]
            users:
              - name: u
                user:
                  {user}
            """;
        ClusterConnection.FromKubeconfig(text, out var error).ShouldBeNull();
        error.ShouldNotBeNull().ShouldContain(says);
    }

    [Theory]
    [InlineData("")]
    [InlineData("hello")]
    [InlineData("a: [1")]
    [InlineData("apiVersion: v1\nkind: Config\nclusters: []\ncontexts: []\nusers: []\ncurrent-context: none")]
    public void What_is_no_kubeconfig_is_explained(string text)
    {
        ClusterConnection.FromKubeconfig(text, out var error).ShouldBeNull();
        error.ShouldNotBeNullOrEmpty();
    }
}
