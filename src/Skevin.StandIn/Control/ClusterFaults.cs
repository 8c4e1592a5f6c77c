using System.Text.Json.Nodes;
using Skevin.Core.Collection;
using Skevin.StandIn.Api;
using Skevin.StandIn.Model;

namespace Skevin.StandIn.Control;

/// <summary>Switches faults: those of the load model, and those that change objects of the cluster as a careless hand would.</summary>
public sealed class ClusterFaults(SimCluster cluster, Faults faults)
{
    private const string AlteredToken = "YWx0ZXJlZCBieSBoYW5k";
    private static readonly ObjectKey Role = new("rbac.authorization.k8s.io", "clusterroles", "", Manifests.Agent);
    private static readonly ObjectKey Secret = new("", "secrets", Manifests.Namespace, Manifests.TokenSecret);
    private static readonly ObjectKey Agents = new("apps", "daemonsets", Manifests.Namespace, Manifests.Agent);
    private static readonly ObjectKey Cache = new("apps", "statefulsets", "auction", "lot-cache");
    private const string OldConfiguration = Manifests.Agent + "-old";
    private const string LowLimit = "16Mi";
    private readonly Dictionary<string, JsonObject> _before = [];

    /// <summary>All faults and whether they are on now. A fault that was cured from outside is off.</summary>
    public IEnumerable<(string Name, string Title, bool On)> List() => Faults.All.Select(fault => (fault.Name, fault.Title, IsOn(fault.Name)));

    /// <summary>Switches one; false where there is no such fault or nothing it could change.</summary>
    public bool Set(string name, bool on)
    {
        if (Faults.All.All(fault => fault.Name != name))
            return false;
        if (IsOn(name) == on)
            return true;
        switch (name)
        {
            case Faults.RoleMissing:
                return Change(name, Role, on, body => body["rules"] = new JsonArray(
                    [.. body["rules"]!.AsArray().Where(rule => !Reads(rule, "nodes/proxy")).Select(rule => rule!.DeepClone())]));
            case Faults.TokenAltered:
                return Change(name, Secret, on, body => body["data"]!["token"] = AlteredToken);
            case Faults.ImageMissing:
                return Change(name, Agents, on, body => ImageOf(body)!["image"] = Manifests.Image + "-mistyped");
            case Faults.AgentMemory:
                return Change(name, Agents, on, body => ImageOf(body)!["resources"]!["limits"]!["memory"] = LowLimit);
            case Faults.OtherConfiguration:
                if (on && !WriteOlder(OldConfiguration))
                    return false;
                return Change(name, Agents, on, body => VolumeOf(body)!["configMap"]!["name"] = OldConfiguration);
            case Faults.TwoRevisions:
                if (on && !WriteOlder(Manifests.ConfigurationOf("0")))
                    return false;
                if (!Change(name, Agents, on, body =>
                {
                    VolumeOf(body)!["configMap"]!["name"] = Manifests.ConfigurationOf("0");
                    body["spec"]!["template"]!["metadata"]!["annotations"]![Manifests.RevisionAnnotation] = "0";
                    body["spec"]!["updateStrategy"] = Manifests.UpdateStrategy(held: true);
                }))
                    return false;
                if (on && cluster.Pods.Where(pod => pod.OwnerName == Manifests.Agent).MinBy(pod => pod.Node, StringComparer.Ordinal) is { } first)
                    cluster.Store.Remove(new ObjectKey("", "pods", first.Namespace, first.Name));
                return true;
            case Faults.CertificateExpired:
                faults.Set(name, on);
                return Change(name, ScenarioObjects.Certificate, on, body => body["data"]!["tls.crt"] = ScenarioObjects.CertificateUntil(DateTimeOffset.UtcNow.AddDays(-1)));
            case Faults.SelectorMatchesNothing:
                faults.Set(name, on);
                return Change(name, ScenarioObjects.ServiceOf(Faults.Mistyped), on, body => body["spec"]!["selector"]![ScenarioObjects.Name] = "lot-registery");
            case Faults.StorageClassMissing:
                faults.Set(name, on);
                Change(name + " workload", Cache, on, body => body["spec"]!["template"]!["metadata"]!["annotations"] = new JsonObject { ["larkfield.example/rolled"] = "again" });
                return Change(name, ScenarioObjects.ClaimOf("auction/lot-cache", 0), on, body =>
                {
                    body["spec"]!["storageClassName"] = "frozen";
                    body["status"]!["phase"] = "Pending";
                });
            case Faults.ImagePolicy or Faults.NoNetwork:
                faults.Set(name, on);
                // Pods that run go on; only new ones are held up.
                return Change(name, Agents, on, body => body["spec"]!["template"]!["metadata"]!["annotations"] = new JsonObject { ["larkfield.example/rolled"] = "again" });
            default:
                faults.Set(name, on);
                return true;
        }
    }

    private bool IsOn(string name) => name switch
    {
        Faults.RoleMissing => cluster.Store.Get(Role) is { } role && !role.Body["rules"]!.AsArray().Any(rule => Reads(rule, "nodes/proxy")),
        Faults.TokenAltered => cluster.Store.Get(Secret)?.Body["data"]?["token"]?.GetValue<string>() == AlteredToken,
        Faults.ImageMissing => cluster.Store.Get(Agents) is { } agents && ImageOf(agents.Body)?["image"]?.GetValue<string>() != Manifests.Image,
        Faults.AgentMemory => cluster.Store.Get(Agents) is { } agents && ImageOf(agents.Body)?["resources"]?["limits"]?["memory"]?.GetValue<string>() == LowLimit,
        Faults.OtherConfiguration => cluster.Store.Get(Agents) is { } agents && VolumeOf(agents.Body)?["configMap"]?["name"]?.GetValue<string>() == OldConfiguration,
        Faults.TwoRevisions => cluster.Store.Get(Agents) is { } agents && VolumeOf(agents.Body)?["configMap"]?["name"]?.GetValue<string>() == Manifests.ConfigurationOf("0"),
        _ => faults.IsOn(name),
    };

    private bool WriteOlder(string name)
    {
        if (cluster.Store.Get(Agents) is not { } agents || VolumeOf(agents.Body)?["configMap"]?["name"]?.GetValue<string>() is not { } current
            || cluster.Store.Get(new ObjectKey("", "configmaps", Manifests.Namespace, current)) is not { } configuration)
            return false;
        cluster.Store.Put(configuration.Key with { Name = name }, Older((JsonObject)configuration.Body.DeepClone()));
        return true;
    }

    // As it was before endpoints were read.
    private static JsonObject Older(JsonObject configuration)
    {
        var read = JsonNode.Parse(configuration["data"]!["agent.json"]!.GetValue<string>())!;
        read["revision"] = 0;
        if (read["plan"]?["metrics"] is JsonObject metrics)
            metrics["endpoints"] = false;
        configuration["data"]!["agent.json"] = read.ToJsonString();
        configuration["metadata"]!.AsObject().Remove("uid");
        return configuration;
    }

    private static JsonNode? VolumeOf(JsonObject set) => set["spec"]?["template"]?["spec"]?["volumes"]?.AsArray().FirstOrDefault(volume => volume?["name"]?.GetValue<string>() == "configuration");

    private static JsonNode? ImageOf(JsonObject set) => set["spec"]?["template"]?["spec"]?["containers"]?[0];

    private bool Change(string name, ObjectKey key, bool on, Action<JsonObject> harm)
    {
        if (cluster.Store.Get(key) is not { } stored)
            return false;
        if (!on)
            return _before.Remove(name, out var before) && cluster.Store.Put(key, (JsonObject)before.DeepClone()) is not null;
        _before[name] = (JsonObject)stored.Body.DeepClone();
        var body = (JsonObject)stored.Body.DeepClone();
        harm(body);
        cluster.Store.Put(key, body);
        return true;
    }

    private static bool Reads(JsonNode? rule, string resource) => rule?["resources"] is JsonArray resources && resources.Any(item => item?.GetValue<string>() == resource);
}
