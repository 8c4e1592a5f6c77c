using System.Text.Json.Nodes;

namespace Skevin.StandIn.Api;

/// <summary>Tells clients which kinds of object there are. Source: the cluster API's discovery documents, APIGroupList and APIResourceList.</summary>
public static class Discovery
{
    private static readonly (string Group, string Version, string[] Plurals)[] Groups =
    [
        ("", "v1", ["nodes", "namespaces", "pods", "configmaps", "secrets", "services", "serviceaccounts", "events", "persistentvolumeclaims"]),
        ("apps", "v1", ["deployments", "statefulsets", "daemonsets", "replicasets"]),
        ("rbac.authorization.k8s.io", "v1", ["clusterroles", "clusterrolebindings", "roles", "rolebindings"]),
        ("networking.k8s.io", "v1", ["ingresses"]),
        ("storage.k8s.io", "v1", ["storageclasses"]),
        ("autoscaling", "v2", ["horizontalpodautoscalers"]),
    ];

    private static readonly Dictionary<string, string> Short = new()
    {
        ["nodes"] = "no", ["namespaces"] = "ns", ["pods"] = "po", ["configmaps"] = "cm", ["services"] = "svc", ["serviceaccounts"] = "sa", ["events"] = "ev", ["persistentvolumeclaims"] = "pvc",
        ["deployments"] = "deploy", ["statefulsets"] = "sts", ["daemonsets"] = "ds", ["replicasets"] = "rs", ["ingresses"] = "ing", ["storageclasses"] = "sc", ["horizontalpodautoscalers"] = "hpa",
    };

    /// <summary>The document for a path, or null where it is none of discovery's.</summary>
    /// <param name="path">Parts of the path.</param>
    /// <param name="kinds">Kind of object by its plural.</param>
    /// <param name="clusterScoped">Plurals without a namespace.</param>
    public static JsonObject? Of(string[] path, IReadOnlyDictionary<string, string> kinds, IReadOnlySet<string> clusterScoped) => path switch
    {
        ["api"] => new JsonObject { ["kind"] = "APIVersions", ["versions"] = new JsonArray("v1"), ["serverAddressByClientCIDRs"] = new JsonArray() },
        ["apis"] => new JsonObject { ["kind"] = "APIGroupList", ["apiVersion"] = "v1", ["groups"] = new JsonArray([.. Groups.Where(one => one.Group.Length > 0).Select(Group)]) },
        ["api", var version] when Groups.FirstOrDefault(one => one.Group.Length == 0 && one.Version == version) is { Plurals: not null } core => Resources("v1", core.Plurals, kinds, clusterScoped),
        ["apis", var group, var version] when Groups.FirstOrDefault(one => one.Group == group && one.Version == version) is { Plurals: not null } named => Resources($"{group}/{version}", named.Plurals, kinds, clusterScoped),
        _ => null,
    };

    private static JsonObject Group((string Group, string Version, string[] Plurals) one)
    {
        JsonObject Version() => new() { ["groupVersion"] = $"{one.Group}/{one.Version}", ["version"] = one.Version };
        return new JsonObject { ["name"] = one.Group, ["versions"] = new JsonArray(Version()), ["preferredVersion"] = Version() };
    }

    private static JsonObject Resources(string version, string[] plurals, IReadOnlyDictionary<string, string> kinds, IReadOnlySet<string> clusterScoped) => new()
    {
        ["kind"] = "APIResourceList", ["apiVersion"] = "v1", ["groupVersion"] = version,
        ["resources"] = new JsonArray([.. plurals.Select(plural =>
        {
            var resource = new JsonObject
            {
                ["name"] = plural, ["singularName"] = kinds[plural].ToLowerInvariant(), ["namespaced"] = !clusterScoped.Contains(plural), ["kind"] = kinds[plural],
                ["verbs"] = new JsonArray("create", "delete", "get", "list", "patch", "update", "watch"),
            };
            if (Short.TryGetValue(plural, out var word))
                resource["shortNames"] = new JsonArray(word);
            return resource;
        })]),
    };
}
