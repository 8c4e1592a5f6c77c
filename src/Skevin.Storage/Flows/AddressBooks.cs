using System.Collections.Concurrent;
using System.Net;
using Npgsql;
using Skevin.Core.Access;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using Skevin.Core.Traffic;

namespace Skevin.Storage.Flows;

/// <summary>Names addresses of one cluster, for a reader.</summary>
public sealed class FlowNaming
{
    private readonly Lock _lock = new();
    private readonly AddressBook _book = new();

    /// <summary>Names the plan gives to networks outside, the first that fits counts.</summary>
    public IReadOnlyList<(IPNetwork Network, string Name)> Outside { get; set; } = [];

    /// <summary>Takes up a lease.</summary>
    public void Put(AddressLease lease)
    {
        lock (_lock)
            _book.Put(lease);
    }

    /// <summary>Leases that are held, by address and beginning.</summary>
    public IReadOnlyList<AddressLease> Held()
    {
        lock (_lock)
            return [.. _book.All.Where(lease => lease.To == long.MaxValue)];
    }

    /// <summary>The row of a minute as a reader may see it; null where neither end is visible to them.</summary>
    public FlowRow? Name(FlowMinute minute, string cluster, AccessScope scope)
    {
        var (source, destination) = (End(minute.Key.Source, minute.Key.Minute), End(minute.Key.Destination, minute.Key.Minute));
        // A minute's flows ended within the minute before its name; who had the address at its beginning or end is meant.
        if (scope.Namespaces is null)
            return scope.Sees(cluster) ? new FlowRow(minute, source, destination, cluster) : null;
        var (seesSource, seesDestination) = (source.Namespace is { } one && scope.Sees(cluster, one), destination.Namespace is { } other && scope.Sees(cluster, other));
        if (!seesSource && !seesDestination)
            return null;
        return new FlowRow(minute, seesSource || IsOutside(source) ? source : FlowEnd.Hidden, seesDestination || IsOutside(destination) ? destination : FlowEnd.Hidden, cluster);
    }

    private static bool IsOutside(FlowEnd end) => end.Namespace is null && end.Pod is null && end.Name != FlowEnd.Hidden.Name && !end.Name.StartsWith("node ", StringComparison.Ordinal);

    private FlowEnd End(IPAddress address, long time)
    {
        AddressLease? lease;
        lock (_lock)
            lease = _book.Find(address, time);
        if (lease is not null)
            return new FlowEnd(lease.Namespace is null ? "node " + lease.Workload : lease.Workload, lease.Namespace, lease.Pod, address.ToString());
        foreach (var (network, name) in Outside)
            if (network.Contains(address))
                return new FlowEnd(name, null, null, address.ToString());
        return new FlowEnd(FlowEnd.Outside, null, null, address.ToString());
    }
}

/// <summary>Who had which address, of every cluster; learned from inventories and kept in the database.</summary>
public sealed class AddressBooks(NpgsqlDataSource database)
{
    private readonly ConcurrentDictionary<string, FlowNaming> _books = new();

    /// <summary>The names of a cluster.</summary>
    public FlowNaming Of(string cluster) => _books.GetOrAdd(cluster, _ => new FlowNaming());

    /// <summary>Takes over the names a plan gives to networks outside.</summary>
    public void NameOutside(string cluster, FlowsPlan? plan) =>
        Of(cluster).Outside = [.. (plan?.Outside ?? []).Where(outside => IPNetwork.TryParse(outside.Network, out _)).Select(outside => (IPNetwork.Parse(outside.Network), outside.Name))];

    /// <summary>Takes up what is in the database.</summary>
    public async Task Load(CancellationToken stop)
    {
        await using var command = database.CreateCommand(
            "select cluster.name, lease.address, from_ms, to_ms, namespace, pod, workload_kind, workload, node from address_lease lease join cluster on cluster.id = cluster_id");
        await using var reader = await command.ExecuteReaderAsync(stop);
        string? Text(int column) => reader.IsDBNull(column) ? null : reader.GetString(column);
        while (await reader.ReadAsync(stop))
            Of(reader.GetString(0)).Put(new AddressLease(
                reader.GetString(1), reader.GetInt64(2), reader.GetInt64(3), Text(4), Text(5), Text(6), reader.GetString(7), reader.GetString(8)));
    }

    /// <summary>Learns from an inventory: new leases begin, those no longer there end now.</summary>
    public async Task Learn(int cluster, string name, Inventory inventory, DateTimeOffset now, CancellationToken stop)
    {
        var naming = Of(name);
        var held = naming.Held().ToDictionary(lease => (lease.Address, lease.From));
        var seen = AddressBook.Of(inventory).DistinctBy(lease => (lease.Address, lease.From)).ToDictionary(lease => (lease.Address, lease.From));
        var changed = seen.Values.Where(lease => !held.TryGetValue((lease.Address, lease.From), out var known) || known != lease)
            .Concat(held.Values.Where(lease => !seen.ContainsKey((lease.Address, lease.From))).Select(lease => lease with { To = now.ToUnixTimeMilliseconds() })).ToArray();
        if (changed.Length == 0)
            return;
        await using var command = database.CreateCommand("""
            insert into address_lease (cluster_id, address, from_ms, to_ms, namespace, pod, workload_kind, workload, node)
            select @cluster, * from unnest(@address, @from, @to, @namespace, @pod, @kind, @workload, @node)
            on conflict (cluster_id, address, from_ms) do update set to_ms = excluded.to_ms, node = excluded.node, pod = excluded.pod, workload = excluded.workload
            """);
        command.Parameters.AddWithValue("cluster", cluster);
        command.Parameters.AddWithValue("address", changed.Select(lease => lease.Address).ToArray());
        command.Parameters.AddWithValue("from", changed.Select(lease => lease.From).ToArray());
        command.Parameters.AddWithValue("to", changed.Select(lease => lease.To).ToArray());
        command.Parameters.Add(new NpgsqlParameter<string?[]>("namespace", changed.Select(lease => lease.Namespace).ToArray()));
        command.Parameters.Add(new NpgsqlParameter<string?[]>("pod", changed.Select(lease => lease.Pod).ToArray()));
        command.Parameters.Add(new NpgsqlParameter<string?[]>("kind", changed.Select(lease => lease.WorkloadKind).ToArray()));
        command.Parameters.AddWithValue("workload", changed.Select(lease => lease.Workload).ToArray());
        command.Parameters.AddWithValue("node", changed.Select(lease => lease.Node).ToArray());
        await command.ExecuteNonQueryAsync(stop);
        foreach (var lease in changed)
            naming.Put(lease);
    }
}
