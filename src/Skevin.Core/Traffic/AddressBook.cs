using System.Net;
using Skevin.Core.Clusters;

namespace Skevin.Core.Traffic;

/// <summary>Who had an address.</summary>
/// <param name="From">Since when, epoch milliseconds.</param>
/// <param name="To">Until when; <see cref="long.MaxValue"/> while it has it.</param>
/// <param name="Namespace">Null for a node.</param>
/// <param name="Pod">Null for a node.</param>
/// <param name="Workload">The workload, or the node's name.</param>
public sealed record AddressLease(string Address, long From, long To, string? Namespace, string? Pod, string? WorkloadKind, string Workload, string Node);

/// <summary>Names of addresses as they were at a time: addresses are used again.</summary>
public sealed class AddressBook
{
    private readonly Dictionary<string, List<AddressLease>> _leases = new(StringComparer.Ordinal);

    /// <summary>All leases.</summary>
    public IEnumerable<AddressLease> All => _leases.Values.SelectMany(list => list);

    /// <summary>Takes up a lease; one with the same address and beginning is replaced.</summary>
    public void Put(AddressLease lease)
    {
        if (!_leases.TryGetValue(lease.Address, out var list))
            _leases[lease.Address] = list = [];
        var at = list.FindIndex(other => other.From >= lease.From);
        if (at >= 0 && list[at].From == lease.From)
            list[at] = lease;
        else
            list.Insert(at < 0 ? list.Count : at, lease);
    }

    /// <summary>Who had an address at a time: the last that got it before, unless it had gone. A grace of a minute lets the flows of an ended pod keep its name.</summary>
    public AddressLease? Find(IPAddress address, long time)
    {
        if (!_leases.TryGetValue(address.ToString(), out var list))
            return null;
        for (var i = list.Count - 1; i >= 0; i--)
            if (list[i].From <= time)
                return time <= list[i].To + 60_000 || list[i].To == long.MaxValue ? list[i] : null;
        return null;
    }

    /// <summary>The leases an inventory shows.</summary>
    /// <param name="inventory">The cluster now.</param>
    public static IEnumerable<AddressLease> Of(Inventory inventory)
    {
        foreach (var node in inventory.Nodes)
            foreach (var address in node.Addresses.Where(address => IPAddress.TryParse(address, out _)))
                yield return new AddressLease(Text(address), node.Created.ToUnixTimeMilliseconds(), long.MaxValue, null, null, "Node", node.Name, node.Name);
        foreach (var pod in inventory.Pods)
            foreach (var address in pod.Addresses.Where(address => IPAddress.TryParse(address, out _)))
                yield return new AddressLease(Text(address), pod.Created.ToUnixTimeMilliseconds(), long.MaxValue, pod.Namespace, pod.Name, pod.WorkloadKind, pod.Workload, pod.Node);
    }

    // One spelling an address. Source: RFC 5952, which the framework's own text form follows.
    private static string Text(string address) => IPAddress.Parse(address).ToString();
}
