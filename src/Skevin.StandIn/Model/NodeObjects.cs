using System.Globalization;
using System.Text.Json.Nodes;
using Skevin.StandIn.Api;

namespace Skevin.StandIn.Model;

/// <summary>How a node is.</summary>
/// <param name="Lost">It does not report any more.</param>
/// <param name="Network">Whether pods on it get addresses.</param>
/// <param name="V6">Whether it has an IPv6 address.</param>
/// <param name="DiskFull">Whether its disk is full.</param>
public readonly record struct NodeCondition(bool Lost, bool Network, bool V6, bool DiskFull)
{
    /// <summary>Whether it is ready.</summary>
    public bool Ready => !Lost && Network;
}

/// <summary>The nodes' objects, written anew whenever their condition changes.</summary>
public sealed class NodeObjects(ObjectStore store, Blueprint blueprint, int number)
{
    // Source of the words: the node agent's own, where no network is configured (container network interface).
    private const string NoNetwork = "container runtime network not ready: NetworkReady=false reason:NetworkPluginNotReady message:Network plugin returns error: cni plugin not initialized";

    private readonly Dictionary<string, NodeCondition> _shown = [];

    /// <summary>Shows a node.</summary>
    /// <param name="node">Which.</param>
    /// <param name="condition">How it is.</param>
    /// <param name="at">Since when.</param>
    /// <param name="born">When it was made.</param>
    public void Show(SimNode node, NodeCondition condition, DateTimeOffset at, DateTimeOffset born)
    {
        if (_shown.TryGetValue(node.Name, out var shown) && shown == condition)
            return;
        _shown[node.Name] = condition;
        var index = blueprint.Nodes.Index().First(one => one.Item == node).Index;
        var key = new ObjectKey("", "nodes", "", node.Name);
        var amounts = new JsonObject { ["cpu"] = node.Cores.ToString(CultureInfo.InvariantCulture), ["memory"] = $"{node.Gib.ToString(CultureInfo.InvariantCulture)}Gi", ["pods"] = "110" };
        var addresses = new JsonArray();
        if (blueprint.V4)
            addresses.Add(Address("InternalIP", $"192.0.2.{number * 20 + index + 1}"));
        if (condition.V6)
            addresses.Add(Address("InternalIP", $"2001:db8:{number:x}:ff::{index + 1:x}"));
        addresses.Add(Address("Hostname", node.Name));
        var (status, reason, message) = condition.Lost ? ("Unknown", "NodeStatusUnknown", "the node agent stopped posting its status")
            : condition.Network ? ("True", "NodeReady", "the node agent is ready") : ("False", "KubeletNotReady", NoNetwork);
        store.Put(key, new JsonObject
        {
            ["apiVersion"] = "v1", ["kind"] = "Node",
            ["metadata"] = new JsonObject
            {
                ["creationTimestamp"] = store.Get(key)?.Body["metadata"]?["creationTimestamp"]?.DeepClone() ?? Time(born),
                ["labels"] = new JsonObject { ["node-role.kubernetes.io/" + node.Role] = "" },
            },
            ["status"] = new JsonObject
            {
                ["capacity"] = amounts.DeepClone(), ["allocatable"] = amounts, ["addresses"] = addresses,
                ["nodeInfo"] = new JsonObject { ["kubeletVersion"] = blueprint.Version, ["operatingSystem"] = "linux", ["architecture"] = "amd64" },
                ["conditions"] = new JsonArray(
                    Condition("Ready", status, reason, message, at),
                    condition.DiskFull ? Condition("DiskPressure", "True", "KubeletHasDiskPressure", "the node agent has disk pressure", at) : Condition("DiskPressure", "False", "KubeletHasNoDiskPressure", "the node agent has no disk pressure", at)),
            },
        });
    }

    private static JsonObject Address(string type, string address) => new() { ["type"] = type, ["address"] = address };

    private static JsonObject Condition(string type, string status, string reason, string message, DateTimeOffset at) =>
        new() { ["type"] = type, ["status"] = status, ["reason"] = reason, ["message"] = message, ["lastTransitionTime"] = Time(at) };

    private static string Time(DateTimeOffset time) => time.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture);
}
