using System.Collections.Concurrent;
using System.Security.Cryptography;
using Microsoft.AspNetCore.DataProtection;
using Npgsql;
using Skevin.Core.Collection;

namespace Skevin.Server.Collection;

/// <summary>The key of each cluster by which its agents know the server; they are told its hash, the database holds it encrypted.</summary>
public sealed class AgentKeys(NpgsqlDataSource database, IDataProtectionProvider protection)
{
    private readonly IDataProtector _protector = protection.CreateProtector("agent key");
    private readonly ConcurrentDictionary<int, string> _known = new();

    /// <summary>The key of a cluster, made where there is none yet.</summary>
    public async Task<string> Of(int cluster, CancellationToken stop)
    {
        if (_known.TryGetValue(cluster, out var known))
            return known;
        var made = Convert.ToHexString(RandomNumberGenerator.GetBytes(24)).ToLowerInvariant();
        // Of two servers that make one at once, the first wins and both use it.
        await using var command = database.CreateCommand("insert into agent_key (cluster_id, protected_key) values (@cluster, @key) on conflict (cluster_id) do update set cluster_id = excluded.cluster_id returning protected_key");
        command.Parameters.AddWithValue("cluster", cluster);
        command.Parameters.AddWithValue("key", _protector.Protect(made));
        return _known[cluster] = _protector.Unprotect((string)(await command.ExecuteScalarAsync(stop))!);
    }

    /// <summary>Hash of it, as it stands in the agents' configuration: SHA-256, hexadecimal.</summary>
    public async Task<string> HashOf(int cluster, CancellationToken stop) => AgentKey.HashOf(await Of(cluster, stop));
}
