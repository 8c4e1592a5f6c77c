using k8s;
using k8s.Models;
using Skevin.Core.Collection;

namespace Skevin.Core.Tests.Collection;

public sealed class ManifestsTests
{
    private static AgentConfiguration Configuration(CollectionPlan plan) => new("larkfield-north", 3, "http://skevin:5180", plan, 1 << 20);

    [Fact]
    public void The_yaml_is_read_by_the_official_client_as_the_objects_it_says()
    {
        // KubernetesClient's own YAML reader, strict, as a reference.
        var yaml = ManifestYaml.Write(Manifests.For(Configuration(CollectionPlan.Suggested), null));
        var objects = KubernetesYaml.LoadAllFromString(yaml, strict: true);
        objects.Select(item => item.GetType()).ShouldBe(
            [typeof(V1Namespace), typeof(V1ServiceAccount), typeof(V1ClusterRole), typeof(V1ClusterRoleBinding), typeof(V1ConfigMap), typeof(V1DaemonSet), typeof(V1Deployment)]);
        var daemonSet = objects.OfType<V1DaemonSet>().Single();
        daemonSet.Spec.Template.Metadata.Annotations[Manifests.RevisionAnnotation].ShouldBe("3");
        daemonSet.Spec.Template.Spec.Containers[0].SecurityContext.Capabilities.Drop.ShouldBe(["ALL"]);
        daemonSet.Spec.Template.Spec.Containers[0].Ports.Select(port => port.HostPort ?? 0).ShouldBe([0, 4318, 4739]);
        objects.OfType<V1Deployment>().Single().Spec.Template.Spec.SecurityContext.RunAsNonRoot.ShouldBe(true);
        daemonSet.Spec.Selector.MatchLabels.ShouldBe(daemonSet.Spec.Template.Metadata.Labels);
    }

    [Fact]
    public void A_preview_never_holds_the_token()
    {
        var manifests = Manifests.For(Configuration(CollectionPlan.Suggested), null);
        manifests.ShouldNotContain(manifest => manifest.Kind == "Secret");
        var withToken = Manifests.For(Configuration(CollectionPlan.Suggested), "skv_secret");
        withToken.Single(manifest => manifest.Kind == "Secret").Body["data"]!["token"]!.GetValue<string>().ShouldBe(Convert.ToBase64String("skv_secret"u8));
        withToken.Where(manifest => manifest.Kind != "Secret").ShouldAllBe(manifest => !manifest.Body.ToJsonString(null).Contains("skv_secret"));
    }

    [Fact]
    public void The_role_is_the_smallest_for_what_is_collected()
    {
        static string[] Rights(MetricsPlan metrics) => [.. Permissions.For(new CollectionPlan(metrics)).SelectMany(right => right.Resources).Distinct().Order()];
        Rights(new MetricsPlan(ResourceUsage: false, ClusterState: false)).ShouldBe(["pods"]);
        Rights(new MetricsPlan(ResourceUsage: true, ClusterState: false, Endpoints: false)).ShouldBe(["nodes/proxy", "pods"]);
        Permissions.For(CollectionPlan.Suggested).SelectMany(right => right.Verbs).Distinct().ShouldBe(["get", "list"], ignoreOrder: true);
    }

    [Fact]
    public void Each_signal_brings_its_own_rights_and_no_others()
    {
        static string[] Rights(CollectionPlan plan) => [.. Permissions.For(plan).SelectMany(right => right.Resources).Distinct().Order()];
        static string[] Nodes(CollectionPlan plan) => [.. Permissions.OnNodes(plan).Select(access => access.What)];
        Rights(new CollectionPlan(null, new LogsPlan(Containers: true, Events: false))).ShouldBe(["pods"]);
        Rights(new CollectionPlan(null, new LogsPlan(Containers: false, Events: true))).ShouldBe(["events"]);
        Rights(new CollectionPlan(null, Flows: new FlowsPlan())).ShouldBeEmpty();
        Nodes(new CollectionPlan(new MetricsPlan())).ShouldBeEmpty();
        Nodes(new CollectionPlan(null, Flows: new FlowsPlan())).ShouldBe(["port 4739 on each node"]);
        Nodes(new CollectionPlan(null, Traces: new TracesPlan())).ShouldBe(["port 4318 on each node"]);
        Nodes(new CollectionPlan(null, new LogsPlan())).ShouldBe(["/var/log/pods (read)", Manifests.BufferOnNode]);
    }

    [Fact]
    public void Only_who_reads_logs_runs_as_root_and_reaches_their_folder_alone()
    {
        static V1PodSpec Spec(CollectionPlan plan) => KubernetesYaml.LoadAllFromString(ManifestYaml.Write(Manifests.For(Configuration(plan), null))).OfType<V1DaemonSet>().Single().Spec.Template.Spec;
        var logs = Spec(new CollectionPlan(null, new LogsPlan(Events: false)));
        logs.SecurityContext.RunAsUser.ShouldBe(0);
        logs.Volumes.Where(volume => volume.HostPath is not null).Select(volume => volume.HostPath.Path).ShouldBe([Manifests.BufferOnNode, "/var/log/pods"]);
        logs.Containers[0].VolumeMounts.Single(mount => mount.Name == "logs").ReadOnlyProperty.ShouldBe(true);
        var traces = Spec(new CollectionPlan(null, Traces: new TracesPlan()));
        traces.SecurityContext.RunAsNonRoot.ShouldBe(true);
        traces.Volumes.ShouldAllBe(volume => volume.HostPath == null);
    }

    [Fact]
    public void A_plan_that_collects_nothing_or_too_often_is_not_rolled_out()
    {
        new CollectionPlan(new MetricsPlan(false, false, false)).Problems().ShouldHaveSingleItem();
        new CollectionPlan(new MetricsPlan(EverySeconds: 0)).Problems().ShouldHaveSingleItem().ShouldContain("1 s to 5 min");
        new CollectionPlan(new MetricsPlan(EndpointPath: "metrics")).Problems().ShouldHaveSingleItem().ShouldContain("'/'");
        new CollectionPlan(null, Traces: new TracesPlan(0)).Problems().ShouldHaveSingleItem().ShouldContain("share");
        new CollectionPlan(null, Flows: new FlowsPlan([new OutsideName("203.0.113.0/99", "buyers")])).Problems().ShouldHaveSingleItem().ShouldContain("203.0.113.0/99");
        CollectionPlan.Suggested.Problems().ShouldBeEmpty();
        CollectionPlan.Suggested.Signals.ShouldBe(["metrics", "logs", "traces", "flows"]);
    }
}
