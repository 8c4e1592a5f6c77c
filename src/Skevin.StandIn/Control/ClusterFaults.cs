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
        _ => faults.IsOn(name),
    };

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
