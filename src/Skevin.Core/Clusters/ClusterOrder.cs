namespace Skevin.Core.Clusters;

/// <summary>Address families of nodes, pods and services.</summary>
public enum OrderFamilies
{
    /// <summary>IPv4 and IPv6.</summary>
    Both,

    /// <summary>IPv4 alone.</summary>
    V4,

    /// <summary>IPv6 alone.</summary>
    V6,
}

/// <summary>Machines of one kind.</summary>
/// <param name="Role">control-plane or worker.</param>
/// <param name="Size">Name of an offered size.</param>
/// <param name="Count">How many.</param>
public sealed record NodeGroup(string Role, string Size, int Count);

/// <summary>A cluster that is to be built. The form is described in docs/formats/cluster-order.md.</summary>
/// <param name="Name">Its name, and the beginning of its machines' names.</param>
/// <param name="Version">Version of the cluster's API.</param>
/// <param name="Groups">Its machines.</param>
/// <param name="Families">Address families.</param>
/// <param name="Network">Name of an offered network; null for none, so that another can be installed.</param>
/// <param name="Services">Names of offered base services.</param>
public sealed record ClusterOrder(string Name, string Version, IReadOnlyList<NodeGroup> Groups, OrderFamilies Families = OrderFamilies.Both, string? Network = null, IReadOnlyList<string>? Services = null);

/// <summary>A size of machine.</summary>
/// <param name="Cores">Processors.</param>
/// <param name="MemoryGib">Memory, GiB.</param>
/// <param name="PricePerHour">Price of one, in the provider's currency; null where it has none.</param>
public sealed record MachineSize(string Name, double Cores, double MemoryGib, double? PricePerHour);

/// <summary>A version that can be ordered.</summary>
/// <param name="Note">What it brings or lacks, in a sentence.</param>
public sealed record OfferedVersion(string Name, string Note);

/// <summary>Something that can be chosen by name.</summary>
public sealed record OfferedPart(string Name, string Title);

/// <summary>What a provider offers.</summary>
/// <param name="Versions">The newest first.</param>
/// <param name="MostMachines">Most machines of one cluster.</param>
/// <param name="Currency">Of the prices; null where there are none.</param>
public sealed record OrderOffers(
    string Provider, IReadOnlyList<OfferedVersion> Versions, IReadOnlyList<MachineSize> Sizes, IReadOnlyList<OfferedPart> Networks, IReadOnlyList<OfferedPart> Services, int MostMachines, string? Currency);

/// <summary>Something wrong with an order.</summary>
/// <param name="Field">name, version, groups, network or services.</param>
public sealed record OrderProblem(string Field, string Text);

/// <summary>An order looked through before it is placed.</summary>
/// <param name="Problems">What must be changed; empty where it can be placed.</param>
/// <param name="Warnings">What follows of it, that one may want to know before.</param>
/// <param name="Makes">Everything that is made, by-products included.</param>
/// <param name="PricePerHour">Of all machines; null where the provider names no prices.</param>
public sealed record OrderReview(
    IReadOnlyList<OrderProblem> Problems, IReadOnlyList<string> Warnings, IReadOnlyList<string> Makes, int Machines, double Cores, double MemoryGib, double? PricePerHour, string? Currency)
{
    /// <summary>Role of the machines that keep the cluster.</summary>
    public const string ControlPlane = "control-plane";

    /// <summary>Role of the machines that do its work.</summary>
    public const string Worker = "worker";

    private const int LongestName = 40;

    /// <summary>Looks an order through.</summary>
    /// <param name="order">The order.</param>
    /// <param name="offers">What can be had.</param>
    /// <param name="taken">Names that are taken.</param>
    public static OrderReview Of(ClusterOrder order, OrderOffers offers, IReadOnlySet<string> taken)
    {
        var groups = order.Groups ?? [];
        var sizes = offers.Sizes.ToDictionary(size => size.Name);
        var known = groups.Where(group => group.Count > 0 && sizes.ContainsKey(group.Size ?? "")).Select(group => (Group: group, Size: sizes[group.Size])).ToArray();
        var machines = groups.Sum(group => Math.Max(0, group.Count));
        return new OrderReview(
            [.. Mistakes(order, groups, offers, sizes, taken, machines)], [.. Consequences(order, groups)], [.. Made(order, known, offers)], machines,
            known.Sum(one => one.Group.Count * one.Size.Cores), known.Sum(one => one.Group.Count * one.Size.MemoryGib),
            known.Any(one => one.Size.PricePerHour is null) ? null : known.Sum(one => one.Group.Count * one.Size.PricePerHour), offers.Currency);
    }

    /// <summary>Names of the machines of an order, with role and size, in the order in which they are made.</summary>
    public static IEnumerable<(string Name, string Role, string Size)> MachinesOf(ClusterOrder order) =>
        order.Groups.OrderBy(group => group.Role == ControlPlane ? 0 : 1).SelectMany(group => Enumerable.Repeat(group, group.Count)).Select((group, i) => ($"{order.Name}-{i + 1}", group.Role, group.Size));

    private static IEnumerable<OrderProblem> Mistakes(
        ClusterOrder order, IReadOnlyList<NodeGroup> groups, OrderOffers offers, Dictionary<string, MachineSize> sizes, IReadOnlySet<string> taken, int machines)
    {
        var name = order.Name ?? "";
        // Source of the form: names of the cluster API's objects, RFC 1123 label; machines carry a number behind it.
        if (name.Length is 0 or > LongestName || !char.IsAsciiLetterLower(name[0]) || name[^1] == '-' || name.Any(c => !char.IsAsciiLetterLower(c) && !char.IsAsciiDigit(c) && c != '-'))
            yield return new("name", $"A name has up to {LongestName} lowercase letters, digits and dashes and begins with a letter, for example larkfield-east.{(name.ToLowerInvariant() is var lower && lower != name && name.All(char.IsAscii) ? $" Did you mean {lower}?" : "")}");
        else if (taken.Contains(name))
            yield return new("name", $"{name} is there already; nothing would be changed. Choose another name.");
        if (offers.Versions.All(version => version.Name != order.Version))
            yield return new("version", $"Version {order.Version} is not offered. There are {string.Join(", ", offers.Versions.Select(version => version.Name))}.");
        foreach (var group in groups)
        {
            if (group.Role is not (ControlPlane or Worker))
                yield return new("groups", $"A group is {ControlPlane} or {Worker}, not '{group.Role}'.");
            if (!sizes.ContainsKey(group.Size ?? ""))
                yield return new("groups", $"Size '{group.Size}' is not offered. There are {string.Join(", ", sizes.Keys)}.");
            if (group.Count < 0)
                yield return new("groups", "A group has no fewer than 0 machines.");
        }
        var keepers = groups.Where(group => group.Role == ControlPlane).Sum(group => group.Count);
        if (keepers < 1)
            yield return new("groups", $"A cluster needs at least one {ControlPlane} machine: its API runs there.");
        // An even number outvotes no more failures than one less. Source: etcd, frequently asked questions, "Why an odd number of cluster members".
        else if (keepers % 2 == 0)
            yield return new("groups", $"{keepers} {ControlPlane} machines bear no more losses than {keepers - 1}. Take an odd number.");
        if (machines > offers.MostMachines)
            yield return new("groups", $"{machines} machines are more than the {offers.MostMachines} the provider gives a cluster.");
        if (order.Network is { } network && offers.Networks.All(one => one.Name != network))
            yield return new("network", $"Network '{network}' is not offered. There are {string.Join(", ", offers.Networks.Select(one => one.Name))}, or none.");
        foreach (var service in (order.Services ?? []).Where(service => offers.Services.All(one => one.Name != service)))
            yield return new("services", $"Base service '{service}' is not offered. There are {string.Join(", ", offers.Services.Select(one => one.Name))}.");
    }

    private static IEnumerable<string> Consequences(ClusterOrder order, IReadOnlyList<NodeGroup> groups)
    {
        var keepers = groups.Where(group => group.Role == ControlPlane).Sum(group => group.Count);
        if (keepers == 1)
            yield return $"With one {ControlPlane} machine the cluster's API is away while that machine is.";
        if (groups.Where(group => group.Role == Worker).Sum(group => group.Count) == 0 && keepers > 0)
            yield return $"Without workers everything runs on the {ControlPlane} machines.";
        if (order.Network is null)
            yield return "Without a network no node becomes ready and no pod starts, the name service neither, until you install one.";
        if (order.Families == OrderFamilies.V6)
            yield return "With IPv6 alone, images and addresses outside must be reachable over IPv6.";
        if (!(order.Services ?? []).Contains("storage"))
            yield return "Without a storage class, claims for storage stay pending.";
    }

    private static IEnumerable<string> Made(ClusterOrder order, IReadOnlyList<(NodeGroup Group, MachineSize Size)> known, OrderOffers offers)
    {
        foreach (var (group, size) in known)
            yield return $"{group.Count} {group.Role} {(group.Count == 1 ? "machine" : "machines")}, {size.Name}: {size.Cores:0.#} cores, {size.MemoryGib:0.#} GiB each";
        yield return order.Families switch { OrderFamilies.Both => "IPv4 and IPv6 addresses for nodes, pods and services", OrderFamilies.V4 => "IPv4 addresses for nodes, pods and services", _ => "IPv6 addresses for nodes, pods and services" };
        yield return "an account that may do everything in the cluster, for Skevin, kept encrypted";
        if (order.Network is { } network)
            yield return $"the network {offers.Networks.FirstOrDefault(one => one.Name == network)?.Title ?? network}, a pod on every node";
        yield return "a name service";
        foreach (var service in order.Services ?? [])
            yield return offers.Services.FirstOrDefault(one => one.Name == service)?.Title.ToLowerInvariant() ?? service;
    }
}

/// <summary>One thing that was ordered beside what is there.</summary>
/// <param name="Matches">Whether they are the same.</param>
public sealed record OrderedAndFound(string What, string Ordered, string Found, bool Matches);

/// <summary>Compares a cluster with its order.</summary>
public static class OrderComparison
{
    /// <summary>Each thing that was ordered.</summary>
    public static IReadOnlyList<OrderedAndFound> Of(ClusterOrder order, IReadOnlyList<MachineSize> sizes, Inventory inventory)
    {
        var bySize = sizes.ToDictionary(size => size.Name);
        var list = new List<OrderedAndFound>();
        void Add(string what, string ordered, string found) => list.Add(new(what, ordered, found, ordered == found));
        string Number(double value) => value.ToString("0.#", System.Globalization.CultureInfo.InvariantCulture);
        Add("Version", order.Version, inventory.Version);
        foreach (var role in order.Groups.Where(group => group.Count > 0).Select(group => group.Role).Distinct())
            Add(role == OrderReview.ControlPlane ? "Control-plane nodes" : "Worker nodes", Number(order.Groups.Where(group => group.Role == role).Sum(group => group.Count)), Number(inventory.Nodes.Count(node => node.Roles.Contains(role))));
        Add("Cores", Number(order.Groups.Sum(group => group.Count * (bySize.GetValueOrDefault(group.Size)?.Cores ?? 0))), Number(inventory.Nodes.Sum(node => node.Capacity.Cores)));
        Add("Memory, GiB", Number(order.Groups.Sum(group => group.Count * (bySize.GetValueOrDefault(group.Size)?.MemoryGib ?? 0))), Number(inventory.Nodes.Sum(node => node.Capacity.Memory) / (1L << 30)));
        var families = inventory.Nodes.Count == 0 ? [] : inventory.Nodes.Select(node => node.Addresses.Select(Probes.FamilyOf).Distinct()).Aggregate((one, other) => one.Intersect(other)).Order(StringComparer.Ordinal).ToArray();
        Add("Address families of every node", order.Families switch { OrderFamilies.Both => "IPv4, IPv6", OrderFamilies.V4 => "IPv4", _ => "IPv6" }, string.Join(", ", families));
        Add("Network", order.Network is null ? "none" : "present", inventory.Nodes.Count > 0 && inventory.Nodes.All(node => node.LacksNetwork) ? "none" : "present");
        Add("Nodes ready", order.Network is null ? "0" : Number(order.Groups.Sum(group => group.Count)), Number(inventory.Nodes.Count(node => node.Ready)));
        if ((order.Services ?? []).Contains("storage"))
            Add("Storage class", "present", inventory.StorageClasses.Count > 0 ? "present" : "missing");
        return list;
    }
}
