using Skevin.Core.Collection;

namespace Skevin.Core.Clusters;

/// <summary>One thing a cluster needs before monitoring it makes sense.</summary>
/// <param name="What">The thing.</param>
/// <param name="Level">How it stands.</param>
/// <param name="Found">What was found.</param>
/// <param name="Fix">What to do; null where it is well.</param>
public sealed record ReadinessItem(string What, HealthLevel Level, string Found, string? Fix);

/// <summary>The readiness list of a cluster, in the order in which its parts wait for each other; recognises what is there, whoever put it there.</summary>
public static class Readiness
{
    private const int NamesPort = 53;
    private const double Tight = 0.9;

    /// <summary>All items.</summary>
    public static IReadOnlyList<ReadinessItem> Of(Inventory inventory) =>
    [
        Nodes(inventory), Network(inventory), Families(inventory), Names(inventory), Storage(inventory), Entry(inventory), Disks(inventory), Room(inventory), Agents(inventory),
    ];

    private static ReadinessItem Nodes(Inventory inventory)
    {
        var waiting = inventory.Nodes.Where(node => !node.Ready).ToArray();
        var found = $"{inventory.Nodes.Count - waiting.Length} of {inventory.Nodes.Count} ready";
        return waiting.Length == 0
            ? new("Nodes", inventory.Nodes.Count == 0 ? HealthLevel.Critical : HealthLevel.Clear, found, inventory.Nodes.Count == 0 ? "No node has joined yet." : null)
            : new("Nodes", HealthLevel.Critical, $"{found}. {string.Join(" ", waiting.Take(3).Select(node => $"{node.Name}: {node.NotReadyBecause}."))}",
                waiting.All(node => node.LacksNetwork) ? "They wait for the network; see the next line." : "Bring them back, or take them out of the cluster.");
    }

    private static ReadinessItem Network(Inventory inventory)
    {
        var without = inventory.Nodes.Where(node => node.LacksNetwork).Select(node => node.Name).ToArray();
        if (without.Length > 0)
            return new("Network", HealthLevel.Critical, $"none on {string.Join(", ", without)}",
                "Install a network for pods (a plugin of the container network interface). Nodes turn ready by themselves; then the name service starts, then everything else.");
        var some = inventory.Pods.SelectMany(pod => pod.Addresses).Select(Probes.FamilyOf).Distinct().Order(StringComparer.Ordinal).ToArray();
        return some.Length == 0 ? new("Network", HealthLevel.Warning, "no pod has an address yet", "Wait: containers are still being made.")
            : new("Network", HealthLevel.Clear, $"pods have {string.Join(" and ", some)} addresses", null);
    }

    private static ReadinessItem Families(Inventory inventory)
    {
        var byNode = inventory.Nodes.Select(node => (node.Name, Families: node.Addresses.Select(Probes.FamilyOf).Distinct().Order(StringComparer.Ordinal).ToArray())).ToArray();
        var all = byNode.SelectMany(node => node.Families).Distinct().Order(StringComparer.Ordinal).ToArray();
        var lacking = byNode.Where(node => node.Families.Length < all.Length).Select(node => $"{node.Name} has no {string.Join(" and no ", all.Except(node.Families))}").ToArray();
        var pods = inventory.Pods.SelectMany(pod => pod.Addresses).Select(Probes.FamilyOf).Distinct().ToArray();
        if (lacking.Length > 0)
            return new("Address families", HealthLevel.Major, string.Join("; ", lacking), "Give the node the address again: pods that speak only that family cannot be reached there. A probe between nodes shows which ways are broken.");
        return all.Except(pods).FirstOrDefault() is { } unused && pods.Length > 0
            ? new("Address families", HealthLevel.Warning, $"nodes have {string.Join(" and ", all)}, pods no {unused}", $"Switch {unused} on in the network, where pods are to have it.")
            : new("Address families", HealthLevel.Clear, $"every node has {string.Join(" and ", all)}", null);
    }

    private static ReadinessItem Names(Inventory inventory)
    {
        var services = inventory.Services.Where(service => service.Ports.Any(port => port.Number == NamesPort)).ToArray();
        if (services.Length == 0)
            return new("Name service", HealthLevel.Minor, "no service on port 53 was found", "Install one: pods find each other by name through it. Where services may not be read, this cannot be told.");
        var health = services.Select(service => (service, pods: ObjectHealth.PodsOf(service, inventory))).MaxBy(one => one.pods.Count(pod => pod.Ready));
        var ready = health.pods.Count(pod => pod.Ready);
        return ready > 0 ? new("Name service", ready < health.pods.Count ? HealthLevel.Minor : HealthLevel.Clear, $"{health.service.Namespace}/{health.service.Name}, {ready} of {health.pods.Count} pods ready", ready < health.pods.Count ? "See its pods." : null)
            : new("Name service", HealthLevel.Critical, $"{health.service.Namespace}/{health.service.Name}, none of {health.pods.Count} pods ready", "Its pods wait for nodes and network; cure those first.");
    }

    private static ReadinessItem Storage(Inventory inventory)
    {
        var usual = inventory.StorageClasses.Where(one => one.Default).Select(one => one.Name).ToArray();
        return (inventory.StorageClasses.Count, usual.Length) switch
        {
            (0, _) => new("Storage", HealthLevel.Warning, "no storage class", "Claims for storage stay pending. Install one, where anything is to be kept."),
            (_, 0) => new("Storage", HealthLevel.Minor, $"{inventory.StorageClasses.Count} classes, none the default", "Claims that name no class stay pending. Make one the default."),
            (_, 1) => new("Storage", HealthLevel.Clear, $"{usual[0]} is the default of {inventory.StorageClasses.Count}", null),
            _ => new("Storage", HealthLevel.Minor, $"{string.Join(" and ", usual)} are both the default", "Leave one: which is taken is not certain."),
        };
    }

    private static ReadinessItem Entry(Inventory inventory)
    {
        if (inventory.EntryPoints.Count == 0)
            return new("Entry points", HealthLevel.Clear, "none; nothing is reached from outside", null);
        if (inventory.EntryPoints.SelectMany(entry => ObjectHealth.CertificatesOf(entry, inventory)).Where(one => one.Trouble is not null).MaxBy(one => one.Level) is { } certificate)
            return new("Entry points", certificate.Level, certificate.Trouble!, "See them under Entry points.");
        var waiting = inventory.EntryPoints.Where(entry => entry.Addresses.Count == 0).Select(entry => $"{entry.Namespace}/{entry.Name}").ToArray();
        return waiting.Length == 0 ? new("Entry points", HealthLevel.Clear, $"{inventory.EntryPoints.Count}, each with an address", null)
            : new("Entry points", HealthLevel.Minor, $"{string.Join(", ", waiting)} without an address", "Is there a controller for its class? Where there is one, the address takes minutes.");
    }

    private static ReadinessItem Disks(Inventory inventory)
    {
        var full = inventory.Nodes.Where(node => node.DiskPressure).Select(node => node.Name).ToArray();
        return full.Length == 0 ? new("Disks", HealthLevel.Clear, "no node short of room", null)
            : new("Disks", HealthLevel.Major, $"{string.Join(", ", full)} short of room", "Make room there: pods are moved away, and the agents stop reading before a disk is full.");
    }

    private static ReadinessItem Room(Inventory inventory)
    {
        var loads = Capacity.ByNode(inventory).ToDictionary(load => load.Node);
        var tight = inventory.Nodes.Where(node => node.Allocatable.Cores > 0)
            .Where(node => loads[node.Name].Requests.Cores > Tight * node.Allocatable.Cores || loads[node.Name].Requests.Memory > Tight * node.Allocatable.Memory).Select(node => node.Name).ToArray();
        var cores = inventory.Nodes.Sum(node => node.Allocatable.Cores);
        var asked = loads.Values.Sum(load => load.Requests.Cores);
        var found = cores > 0 ? $"{asked:0.0} of {cores:0.#} cores requested" : "not known yet";
        return tight.Length == 0 ? new("Room", HealthLevel.Clear, found, null) : new("Room", HealthLevel.Minor, $"{found}; {string.Join(", ", tight)} over 90 %", "A pod that is moved may find no place. Add a node, or lower requests that are not used.");
    }

    private static ReadinessItem Agents(Inventory inventory)
    {
        var agents = inventory.Pods.Where(pod => pod.Namespace == Manifests.Namespace && pod.Workload == Manifests.Agent).ToArray();
        var ready = agents.Count(pod => pod.Ready);
        return agents.Length == 0 ? new("Agents", HealthLevel.Warning, "none: nothing is collected", "Make a plan under Collect and roll it out.")
            : new("Agents", ready >= inventory.Nodes.Count ? HealthLevel.Clear : HealthLevel.Minor, $"{ready} of {inventory.Nodes.Count} nodes have one that is ready", ready >= inventory.Nodes.Count ? null : "See the roll-out under Collect.");
    }
}
