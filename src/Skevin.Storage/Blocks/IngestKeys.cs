using Npgsql;

namespace Skevin.Storage.Blocks;

/// <summary>What tells a request from its repetition.</summary>
/// <param name="Sender">The token.</param>
/// <param name="Key">The sender's Idempotency-Key, or <c>sha256:</c> and a hash of the body, remembered for 10 min because the same may rightly come again later; null where repetitions are told otherwise.</param>
public sealed record RequestKey(Guid Sender, string? Key);

/// <summary>Keys of the requests that were taken.</summary>
public static class IngestKeys
{
    /// <summary>Takes note of the requests in their transaction.</summary>
    /// <returns>Which of them are new; of equal ones the first.</returns>
    public static async Task<List<T>> TakeNew<T>(
        NpgsqlConnection connection, NpgsqlTransaction transaction, IReadOnlyList<T> requests, Func<T, RequestKey> keyOf, DateTimeOffset now, CancellationToken stop) where T : class
    {
        var keyed = requests.Where(request => keyOf(request).Key is not null).DistinctBy(request => (keyOf(request).Sender, keyOf(request).Key)).ToArray();
        if (keyed.Length == 0)
            return [.. requests];
        await using var command = new NpgsqlCommand("""
            insert into ingest_key (sender, key, received_at) select sender, key, @now from unnest(@sender, @key) as given (sender, key)
            on conflict (sender, key) do update set received_at = excluded.received_at
            where ingest_key.key like 'sha256:%' and ingest_key.received_at < excluded.received_at - interval '10 minutes'
            returning sender, key
            """, connection, transaction);
        command.Parameters.AddWithValue("now", now.UtcDateTime);
        command.Parameters.AddWithValue("sender", keyed.Select(request => keyOf(request).Sender).ToArray());
        command.Parameters.AddWithValue("key", keyed.Select(request => keyOf(request).Key!).ToArray());
        var taken = new HashSet<(Guid, string)>();
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
            taken.Add((reader.GetGuid(0), reader.GetString(1)));
        return [.. requests.Where(request => keyOf(request).Key is not { } key || (keyed.Contains(request) && taken.Contains((keyOf(request).Sender, key))))];
    }
}
