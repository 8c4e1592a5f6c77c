using System.Text.Json.Nodes;
using Skevin.StandIn.Api;

namespace Skevin.StandIn.Model;

/// <summary>Chooses nodes for pods, and gives addresses to pods and services.</summary>
/// <param name="store">Objects of the cluster.</param>
/// <param name="blueprint">How it was built.</param>
/// <param name="faults">What is switched in it.</param>
/// <param name="number">The cluster's number, part of all its addresses.</param>
internal sealed class PodPlacement(ObjectStore store, Blueprint blueprint, Faults faults, int number)
{
    private const int FirstOwnService = 250;
    private const int OwnServices = 5;

    /// <summary>The last address that was given.</summary>
    public int LastAddress { get; set; } = 10;

    /// <summary>Places a pod; where that cannot be, the pod says why.</summary>
    /// <param name="pod">The pod.</param>
    /// <param name="all">Pods of the cluster.</param>
    /// <param name="nodes">Its nodes, and whether each can take pods.</param>
    /// <param name="hasV6">Whether a node has IPv6.</param>
    public bool Place(SimPod pod, IReadOnlyCollection<SimPod> all, IReadOnlyList<(SimNode Node, bool Ready)> nodes, Func<string, bool> hasV6)
    {
        if (faults.IsOn(Faults.StorageClassMissing) && pod is { Namespace: "auction", OwnerName: "lot-cache" })
        {
            pod.CannotSchedule = $"0/{nodes.Count} nodes are available: pod has unbound immediate PersistentVolumeClaims.";
            return false;
        }
        if (pod.Node.Length == 0)
        {
            var ready = nodes.Where(node => node.Ready).Select(node => node.Node).ToArray();
            var free = ready
                .Select(node => (node, used: all.Where(other => other.Node == node.Name).ToArray()))
                .Select(pair => (node: pair.node.Name, cores: pair.node.Cores - pair.used.Sum(other => other.Request.Cores), memory: pair.node.Gib * (1L << 30) - pair.used.Sum(other => other.Request.Memory),
                    same: pair.used.Count(other => other.OwnerName == pod.OwnerName)))
                .Where(place => place.cores >= pod.Request.Cores && place.memory >= pod.Request.Memory)
                .OrderBy(place => place.same).ThenByDescending(place => place.cores).ToArray();
            if (free.Length == 0)
            {
                pod.CannotSchedule = $"0/{nodes.Count} nodes are available: {string.Join(", ", new[] { (nodes.Count - ready.Length, "node(s) had untolerated taint {node.kubernetes.io/not-ready: }"), (ready.Length, "Insufficient cpu or memory") }.Where(why => why.Item1 > 0).Select(why => $"{why.Item1} {why.Item2}"))}.";
                return false;
            }
            pod.Node = free[0].node;
        }
        pod.Addresses = pod.OnHostNetwork
            ? [.. store.Get(new ObjectKey("", "nodes", "", pod.Node))!.Body["status"]!["addresses"]!.AsArray().Where(address => address!["type"]!.GetValue<string>() == "InternalIP").Select(address => address!["address"]!.GetValue<string>())]
            : NewAddresses(pod, hasV6(pod.Node));
        return true;
    }

    /// <summary>Gives addresses to services that were made without.</summary>
    public void AddressServices()
    {
        var services = store.List("", "services", "").Objects;
        foreach (var service in services.Where(service => service.Body["spec"] is JsonObject spec && spec["clusterIPs"] is null && spec["clusterIP"]?.GetValue<string>() != "None"))
        {
            var taken = store.List("", "services", "").Objects.SelectMany(other => other.Body["spec"]?["clusterIPs"] as JsonArray ?? []).Select(address => address!.GetValue<string>()).ToHashSet();
            var n = Enumerable.Range(0, OwnServices).FirstOrDefault(n => !taken.Contains(V4Of(n)) && !taken.Contains(V6Of(n)), -1);
            if (n < 0)
                continue;
            var addresses = new JsonArray([.. (blueprint.V4 ? new[] { V4Of(n) } : []).Concat(blueprint.V6 ? [V6Of(n)] : []).Select(address => (JsonNode)JsonValue.Create(address)!)]);
            var body = (JsonObject)service.Body.DeepClone();
            (body["spec"]!["clusterIP"], body["spec"]!["clusterIPs"], body["spec"]!["type"]) = (addresses[0]!.DeepClone(), addresses, "ClusterIP");
            store.Put(service.Key, body);
        }
    }

    private string V4Of(int n) => $"198.51.{99 + number}.{FirstOwnService + n}";

    private string V6Of(int n) => $"2001:db8:{number:x}:f::f{n}";

    private string[] NewAddresses(SimPod pod, bool v6)
    {
        LastAddress++;
        var onlyV6 = Scenario.Workloads.FirstOrDefault(workload => workload.Namespace == pod.Namespace && workload.Name == pod.OwnerName)?.OnlyV6 == true;
        return [.. onlyV6 || !blueprint.V4 ? [] : new[] { $"198.51.{99 + number}.{LastAddress % 240 + 10}" }, .. v6 ? new[] { $"2001:db8:{number:x}::{LastAddress:x}" } : []];
    }
}
