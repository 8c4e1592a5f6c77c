using System.Net;
using System.Net.Http.Headers;
using System.Text.Json.Nodes;
using k8s;
using k8s.Autorest;
using k8s.Models;
using Skevin.ClusterApi;
using Skevin.Core.Collection;
using Skevin.StandIn;
using Skevin.StandIn.Api;

namespace Skevin.Server.Tests.StandIn;

/// <summary>The stand-in's cluster API, asked by the official client.</summary>
public sealed class ClusterApiTests : IAsyncLifetime
{
    private readonly int _port = TestDatabase.FreePorts(4);
    private StandInHost _host = null!;
    private Kubernetes _admin = null!;

    public async ValueTask InitializeAsync()
    {
        _host = await StandInHost.Start(new StandInOptions(Directory.CreateTempSubdirectory("skevin-stand-in").FullName, _port, TimeSpan.Zero));
        _admin = ClusterConnection.FromKubeconfig(await File.ReadAllTextAsync(_host.KubeconfigPath("larkfield-south")), out _)!;
    }

    public async ValueTask DisposeAsync()
    {
        _admin.Dispose();
        await _host.DisposeAsync();
    }

    [Fact]
    public async Task Lists_are_filtered_by_field_label_and_namespace()
    {
        (await _admin.CoreV1.ListNodeAsync()).Items.Count.ShouldBe(3);
        var all = (await _admin.CoreV1.ListPodForAllNamespacesAsync()).Items;
        var node = (await _admin.CoreV1.ListPodForAllNamespacesAsync(fieldSelector: "spec.nodeName=south-1")).Items;
        node.Count.ShouldBe(all.Count(pod => pod.Spec.NodeName == "south-1"));
        (await _admin.CoreV1.ListNamespacedPodAsync("auction", labelSelector: "app.kubernetes.io/name=ledger")).Items.Count.ShouldBe(3);
    }

    [Fact]
    public async Task Clients_that_look_first_find_every_kind_there_is()
    {
        // The official client's own reading of the discovery documents.
        var core = await _admin.CoreV1.GetAPIResourcesAsync();
        core.Resources.Single(one => one.Name == "pods").ShouldSatisfyAllConditions(one => one.Kind.ShouldBe("Pod"), one => one.Namespaced.ShouldBeTrue(), one => one.ShortNames.ShouldBe(["po"]));
        core.Resources.Single(one => one.Name == "nodes").Namespaced.ShouldBeFalse();
        var groups = (await _admin.Apis.GetAPIVersionsAsync()).Groups;
        groups.Select(group => group.PreferredVersion.GroupVersion).ShouldBe(["apps/v1", "rbac.authorization.k8s.io/v1", "networking.k8s.io/v1", "storage.k8s.io/v1", "autoscaling/v2"]);
        (await _admin.AppsV1.GetAPIResourcesAsync()).Resources.Select(one => one.Kind).ShouldContain("DaemonSet");
        (await _admin.StorageV1.GetAPIResourcesAsync()).Resources.Select(one => one.Name).ShouldBe(["storageclasses"]);
    }

    [Fact]
    public async Task Without_a_token_it_is_401_and_without_a_right_403_in_the_apis_words()
    {
        using var http = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{_port + 1}") };
        (await http.GetAsync("api/v1/nodes")).StatusCode.ShouldBe(HttpStatusCode.Unauthorized);
        await Apply("Namespace", null, "skevin-agents", "{}");
        foreach (var manifest in Manifests.For(new AgentConfiguration("c", 1, "http://127.0.0.1:1", new CollectionPlan(new MetricsPlan(false, false, true)), 1), null))
            await ManifestApply.Apply(_admin, manifest, CancellationToken.None);
        var pods = Path.Combine(Path.GetDirectoryName(_host.KubeconfigPath("x"))!, "larkfield-south", "pods");
        var file = await ApiCalls.Until(() => Task.FromResult(Directory.Exists(pods) ? Directory.GetFiles(pods, "token", SearchOption.AllDirectories).FirstOrDefault(path => path.Contains("account")) : null), found => found is not null, 30, "an agent's account");
        using var agent = ClusterConnection.FromServiceAccount(http.BaseAddress, await File.ReadAllTextAsync(file!), null);
        (await agent.CoreV1.ListPodForAllNamespacesAsync()).Items.ShouldNotBeEmpty();
        var refused = await Should.ThrowAsync<HttpOperationException>(() => agent.CoreV1.ConnectGetNodeProxyWithPathAsync("south-1", "stats/summary"));
        InventoryWatch.Words(refused).ShouldBe("403 nodes \"south-1\" is forbidden: User \"system:serviceaccount:skevin-agents:skevin-agent\" cannot get resource \"nodes/proxy\" in API group \"\" at the cluster scope");
        (await ManifestApply.May(agent, "get", "", "nodes/proxy", null, CancellationToken.None)).Allowed.ShouldBeFalse();
        (await ManifestApply.May(agent, "list", "", "pods", null, CancellationToken.None)).Allowed.ShouldBeTrue();
    }

    private Task Apply(string kind, string? ns, string name, string rest) =>
        ManifestApply.Apply(_admin, new Manifest("v1", kind, ns, name, (JsonObject)JsonNode.Parse(rest)!), CancellationToken.None);

    [Fact]
    public async Task A_watch_tells_what_comes_changes_and_goes()
    {
        using var stop = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        var version = (await _admin.CoreV1.ListNamespaceAsync()).Metadata.ResourceVersion;
        await Apply("Namespace", null, "harvest", "{}");
        await Apply("Namespace", null, "harvest", """{"metadata":{"labels":{"season":"late"}}}""");
        await _admin.CoreV1.DeleteNamespaceAsync("harvest");
        var seen = new List<WatchEventType>();
        await foreach (var (type, item) in _admin.CoreV1.WatchListNamespaceAsync(resourceVersion: version, cancellationToken: stop.Token))
        {
            if (item.Metadata.Name == "harvest")
                seen.Add(type);
            if (type == WatchEventType.Deleted)
                break;
        }
        seen.ShouldBe([WatchEventType.Added, WatchEventType.Modified, WatchEventType.Deleted]);
    }

    [Fact]
    public async Task Applying_again_changes_nothing_and_what_others_set_stays()
    {
        await Apply("Namespace", null, "harvest", "{}");
        await Apply("ConfigMap", "harvest", "c", """{"data":{"a":"1"}}""");
        var first = await _admin.CoreV1.ReadNamespacedConfigMapAsync("c", "harvest");
        await Apply("ConfigMap", "harvest", "c", """{"data":{"a":"1"}}""");
        (await _admin.CoreV1.ReadNamespacedConfigMapAsync("c", "harvest")).Metadata.ResourceVersion.ShouldBe(first.Metadata.ResourceVersion);
        await Apply("ConfigMap", "harvest", "c", """{"data":{"b":"2"}}""");
        var merged = await _admin.CoreV1.ReadNamespacedConfigMapAsync("c", "harvest");
        merged.Data.ShouldBe(new Dictionary<string, string> { ["a"] = "1", ["b"] = "2" });
        merged.Metadata.Uid.ShouldBe(first.Metadata.Uid);
    }

    [Theory]
    [InlineData("/api/v1/namespaces/nowhere/configmaps/c", HttpStatusCode.NotFound)]
    [InlineData("/api/v1/namespaces/auction/configmaps/Capital", HttpStatusCode.UnprocessableEntity)]
    public async Task What_cannot_be_applied_is_refused_as_a_cluster_does(string path, HttpStatusCode status)
    {
        using var http = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{_port + 1}") };
        var token = KubernetesYaml.Deserialize<k8s.KubeConfigModels.K8SConfiguration>(await File.ReadAllTextAsync(_host.KubeconfigPath("larkfield-south"))).Users.First().UserCredentials.Token;
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
        using var answer = await http.PatchAsync(path, new StringContent("{}", System.Text.Encoding.UTF8, "application/apply-patch+yaml"));
        answer.StatusCode.ShouldBe(status);
        JsonNode.Parse(await answer.Content.ReadAsStringAsync())!["kind"]!.GetValue<string>().ShouldBe("Status");
    }

    [Fact]
    public void Named_lists_are_merged_by_name()
    {
        // Cluster documentation, "Server-Side Apply": containers are a list of maps merged by name.
        var merged = JsonMerge.Apply(
            JsonNode.Parse("""{"containers":[{"name":"a","image":"1","tty":true},{"name":"b"}],"args":["x"]}"""),
            JsonNode.Parse("""{"containers":[{"name":"a","image":"2"}],"args":["y","z"]}"""))!;
        merged.ToJsonString().ShouldBe("""{"containers":[{"name":"a","image":"2","tty":true}],"args":["y","z"]}""");
    }
}
