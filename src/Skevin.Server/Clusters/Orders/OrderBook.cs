using System.Text.Json;
using System.Text.Json.Serialization;
using Npgsql;
using NpgsqlTypes;
using Skevin.Core.Clusters;

namespace Skevin.Server.Clusters.Orders;

/// <summary>An order as kept.</summary>
/// <param name="Sizes">The sizes as they were offered, to compare with.</param>
/// <param name="ConnectedAt">When the built cluster was connected; null before.</param>
public sealed record KeptOrder(ClusterOrder Order, IReadOnlyList<MachineSize> Sizes, string OrderedBy, DateTimeOffset OrderedAt, DateTimeOffset? ConnectedAt);

/// <summary>Orders in the database.</summary>
public sealed class OrderBook(NpgsqlDataSource database)
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { Converters = { new JsonStringEnumConverter(JsonNamingPolicy.CamelCase) } };

    /// <summary>Every order, the newest first.</summary>
    public async Task<IReadOnlyList<KeptOrder>> All(CancellationToken stop)
    {
        await using var command = database.CreateCommand("select document, sizes, ordered_by, ordered_at, connected_at from cluster_order order by ordered_at desc");
        await using var rows = await command.ExecuteReaderAsync(stop);
        var orders = new List<KeptOrder>();
        while (await rows.ReadAsync(stop))
            orders.Add(new KeptOrder(
                JsonSerializer.Deserialize<ClusterOrder>(rows.GetString(0), Json)!, JsonSerializer.Deserialize<MachineSize[]>(rows.GetString(1), Json)!, rows.GetString(2),
                rows.GetFieldValue<DateTimeOffset>(3), rows.IsDBNull(4) ? null : rows.GetFieldValue<DateTimeOffset>(4)));
        return orders;
    }

    /// <summary>Keeps an order; false where there is one of that name.</summary>
    public async Task<bool> Keep(KeptOrder order, CancellationToken stop)
    {
        await using var command = database.CreateCommand("insert into cluster_order (name, document, sizes, ordered_by, ordered_at) values (@name, @document, @sizes, @by, @at) on conflict do nothing");
        command.Parameters.AddWithValue("name", order.Order.Name);
        command.Parameters.AddWithValue("document", NpgsqlDbType.Jsonb, JsonSerializer.Serialize(order.Order, Json));
        command.Parameters.AddWithValue("sizes", NpgsqlDbType.Jsonb, JsonSerializer.Serialize(order.Sizes, Json));
        command.Parameters.AddWithValue("by", order.OrderedBy);
        command.Parameters.AddWithValue("at", order.OrderedAt.UtcDateTime);
        return await command.ExecuteNonQueryAsync(stop) == 1;
    }

    /// <summary>Notes that a cluster was connected.</summary>
    public async Task Connected(string name, DateTimeOffset at, CancellationToken stop)
    {
        await using var command = database.CreateCommand("update cluster_order set connected_at = @at where name = @name and connected_at is null");
        command.Parameters.AddWithValue("at", at.UtcDateTime);
        command.Parameters.AddWithValue("name", name);
        await command.ExecuteNonQueryAsync(stop);
    }

    /// <summary>Forgets an order; false where there was none.</summary>
    public async Task<bool> Forget(string name, CancellationToken stop)
    {
        await using var command = database.CreateCommand("delete from cluster_order where name = @name");
        command.Parameters.AddWithValue("name", name);
        return await command.ExecuteNonQueryAsync(stop) == 1;
    }
}
