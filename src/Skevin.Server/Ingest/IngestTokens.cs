using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using Microsoft.EntityFrameworkCore;
using Skevin.Storage;

namespace Skevin.Server.Ingest;

/// <summary>Makes, finds and revokes ingest tokens. A token is 32 random bytes, so a plain hash of it is enough.</summary>
public sealed class IngestTokens(IDbContextFactory<SkevinContext> contexts, TimeProvider clock)
{
    private const string Prefix = "skv_";
    private static readonly TimeSpan Remembered = TimeSpan.FromSeconds(5);
    private readonly ConcurrentDictionary<string, (IngestTokenRow? Row, string Cluster, DateTimeOffset At)> _known = new();

    /// <summary>Makes a token. Its text is returned once and not kept.</summary>
    public async Task<(IngestTokenRow Row, string Token)> Make(string name, int cluster, bool forAgents, DateTimeOffset? expires, string by, CancellationToken stop, int? itemsPerSecond = null)
    {
        var token = Prefix + Convert.ToHexString(RandomNumberGenerator.GetBytes(32)).ToLowerInvariant();
        var row = new IngestTokenRow
        {
            Id = Guid.CreateVersion7(), Name = name, ClusterId = cluster, Hash = Hash(token), ForAgents = forAgents,
            CreatedAt = clock.GetUtcNow(), CreatedBy = by, ExpiresAt = expires, ItemsPerSecond = itemsPerSecond,
        };
        await using var context = await contexts.CreateDbContextAsync(stop);
        context.IngestTokens.Add(row);
        await context.SaveChangesAsync(stop);
        return (row, token);
    }

    /// <summary>Revokes a token; its hash is kept, so that a refused push can be explained.</summary>
    public async Task<bool> Revoke(Guid id, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var row = await context.IngestTokens.FindAsync([id], stop);
        if (row is null)
            return false;
        row.RevokedAt ??= clock.GetUtcNow();
        await context.SaveChangesAsync(stop);
        _known.Clear();
        return true;
    }

    /// <summary>Reads every token anew: a cluster went, and its tokens with it.</summary>
    public void Forget() => _known.Clear();

    /// <summary>The token behind an Authorization header and its cluster's name; valid or not is for the caller to see.</summary>
    public async Task<(IngestTokenRow? Row, string Cluster)> Find(string? header, CancellationToken stop)
    {
        if (header?.StartsWith("Bearer ", StringComparison.OrdinalIgnoreCase) != true)
            return (null, "");
        var hash = Hash(header[7..].Trim());
        var key = Convert.ToHexString(hash);
        // Remembered shortly, so that a revocation made by another server is soon seen here too.
        if (_known.TryGetValue(key, out var known) && clock.GetUtcNow() - known.At < Remembered)
            return (known.Row, known.Cluster);
        await using var context = await contexts.CreateDbContextAsync(stop);
        var found = await context.IngestTokens.AsNoTracking().Join(context.Clusters, token => token.ClusterId, cluster => cluster.Id, (token, cluster) => new { token, cluster.Name })
            .FirstOrDefaultAsync(pair => pair.token.Hash == hash, stop);
        if (_known.Count > 10_000)
            _known.Clear();
        _known[key] = (found?.token, found?.Name ?? "", clock.GetUtcNow());
        return (found?.token, found?.Name ?? "");
    }

    /// <summary>Whether a token may push now.</summary>
    public bool IsValid(IngestTokenRow row) => row.RevokedAt is null && (row.ExpiresAt is null || row.ExpiresAt > clock.GetUtcNow());

    private static byte[] Hash(string token) => SHA256.HashData(Encoding.UTF8.GetBytes(token));
}
