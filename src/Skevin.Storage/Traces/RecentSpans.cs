using Npgsql;
using Skevin.Core.Traces;

namespace Skevin.Storage.Traces;

/// <summary>
/// Spans stored lately, so that one that is sent again is stored once: a sender repeats within minutes. Each is known by 64 bits of its
/// trace, its own id and its cluster; two generations of at least 10 min each are kept.
/// </summary>
public sealed class RecentSpans(TimeProvider clock)
{
    /// <summary>How long a span is remembered at least.</summary>
    public static readonly TimeSpan Remembered = TimeSpan.FromMinutes(10);

    private readonly Lock _lock = new();
    private HashSet<ulong> _now = [];
    private HashSet<ulong> _before = [];
    private DateTimeOffset _since = clock.GetUtcNow();

    /// <summary>A span's 64 bits.</summary>
    public static ulong Fingerprint(int cluster, Span span)
    {
        var hash = span.Trace.High;
        foreach (var part in new[] { span.Trace.Low, span.Id, (ulong)cluster })
        {
            hash = (hash ^ part) * 0x9e3779b97f4a7c15UL;
            hash ^= hash >> 29;
        }
        return hash;
    }

    /// <summary>Whether a span was stored lately.</summary>
    public bool Holds(int cluster, Span span)
    {
        var own = Fingerprint(cluster, span);
        lock (_lock)
            return _now.Contains(own) || _before.Contains(own);
    }

    /// <summary>Takes note of spans that were committed.</summary>
    public void Add(IEnumerable<ulong> fingerprints, DateTimeOffset now)
    {
        lock (_lock)
        {
            if (now - _since > Remembered)
                (_before, _now, _since) = (_now, [], now);
            _now.UnionWith(fingerprints);
        }
    }

    /// <summary>Takes up what was stored before a restart.</summary>
    public async Task Load(NpgsqlDataSource database, CancellationToken stop)
    {
        await using var command = database.CreateCommand("select cluster_id, payload from span_block where received_at > @since");
        command.Parameters.AddWithValue("since", clock.GetUtcNow().UtcDateTime - Remembered);
        await using var reader = await command.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
        {
            var cluster = reader.GetInt32(0);
            Add(SpanBlock.Decode((byte[])reader[1]).Select(span => Fingerprint(cluster, span)), clock.GetUtcNow());
        }
    }
}
