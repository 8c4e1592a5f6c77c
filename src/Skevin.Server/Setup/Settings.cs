using System.Text.Json;
using Npgsql;
using NpgsqlTypes;

namespace Skevin.Server.Setup;

/// <summary>Settings of the whole installation, as JSON by name.</summary>
public sealed class Settings(NpgsqlDataSource database)
{
    /// <summary>A setting; null where it was never set.</summary>
    public async Task<T?> Read<T>(string name, CancellationToken stop) where T : class
    {
        await using var command = database.CreateCommand("select document from setting where name = @name");
        command.Parameters.AddWithValue("name", name);
        return await command.ExecuteScalarAsync(stop) is string text ? JsonSerializer.Deserialize<T>(text, JsonSerializerOptions.Web) : null;
    }

    /// <summary>Sets it.</summary>
    public async Task Write<T>(string name, T value, CancellationToken stop)
    {
        await using var command = database.CreateCommand("insert into setting (name, document) values (@name, @document) on conflict (name) do update set document = excluded.document");
        command.Parameters.AddWithValue("name", name);
        command.Parameters.AddWithValue("document", NpgsqlDbType.Jsonb, JsonSerializer.Serialize(value, JsonSerializerOptions.Web));
        await command.ExecuteNonQueryAsync(stop);
    }
}
