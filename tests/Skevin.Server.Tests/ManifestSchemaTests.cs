using System.Text.Json.Nodes;
using k8s;
using k8s.Models;
using Skevin.Core.Collection;

namespace Skevin.Server.Tests;

/// <summary>
/// The manifests hold nothing the cluster API's published schema does not know: read into the official client's models, which are generated from that schema, and written again, each is what it was.
/// </summary>
public sealed class ManifestSchemaTests
{
    public static TheoryData<bool, bool, bool> Plans => new(from logs in new[] { false, true } from host in new[] { false, true } from held in new[] { false, true } select new TheoryDataRow<bool, bool, bool>(logs, host, held));

    [Theory]
    [MemberData(nameof(Plans))]
    public void Every_manifest_survives_the_schema(bool logs, bool host, bool held)
    {
        var plan = new CollectionPlan(new MetricsPlan(HostMetrics: host), logs ? new LogsPlan(Syslog: true, Joined: true) : null, new TracesPlan(), new FlowsPlan([new("203.0.113.0/24", "yard")]));
        var manifests = Manifests.For(new AgentConfiguration("larkfield-north", 3, "https://skevin.example", plan, 1 << 20, new string('a', 64)), "token", held: held);
        manifests.Count.ShouldBe(8);
        foreach (var manifest in manifests)
        {
            var text = manifest.Body.ToJsonString();
            var again = manifest.Kind switch
            {
                "Namespace" => Again<V1Namespace>(text),
                "ServiceAccount" => Again<V1ServiceAccount>(text),
                "ClusterRole" => Again<V1ClusterRole>(text),
                "ClusterRoleBinding" => Again<V1ClusterRoleBinding>(text),
                "ConfigMap" => Again<V1ConfigMap>(text),
                "Secret" => Again<V1Secret>(text),
                "DaemonSet" => Again<V1DaemonSet>(text),
                "Deployment" => Again<V1Deployment>(text),
                var other => throw new InvalidOperationException("no model of a " + other),
            };
            JsonNode.DeepEquals(JsonNode.Parse(again), manifest.Body).ShouldBeTrue($"{manifest.Kind}: {text}\nbecame {again}");
        }
    }

    [Fact]
    public void A_field_that_is_not_in_the_schema_would_be_seen()
    {
        var set = Manifests.For(new AgentConfiguration("c", 1, "https://skevin.example", CollectionPlan.Suggested, 1), null).Single(manifest => manifest.Kind == "DaemonSet").Body;
        set["spec"]!["template"]!["spec"]!["hostNetwrok"] = true;
        JsonNode.DeepEquals(JsonNode.Parse(Again<V1DaemonSet>(set.ToJsonString())), set).ShouldBeFalse();
    }

    private static string Again<T>(string text) => KubernetesJson.Serialize(KubernetesJson.Deserialize<T>(text));
}
