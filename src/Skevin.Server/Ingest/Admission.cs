using Skevin.Storage;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Blocks;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Ingest;

/// <summary>Who sends, and into which cluster.</summary>
/// <param name="Token">The ingest token.</param>
/// <param name="Cluster">Its cluster's name.</param>
/// <param name="Key">The sender's Idempotency-Key, or null.</param>
public sealed record Sender(IngestTokenRow Token, string Cluster, string? Key);

/// <summary>Why a request is not taken.</summary>
/// <param name="Status">HTTP status: 400, 401, 413, 415, 429 or 503.</param>
/// <param name="Text">What was wrong and what to do.</param>
/// <param name="RetryAfter">After how many seconds to come again; 0 where that would not help.</param>
public sealed record IngestRefusal(int Status, string Text, int RetryAfter = 0);

/// <summary>Lets senders in, whatever way they come.</summary>
public sealed class Admission(IngestTokens tokens, IngestLimits limits, MetricsIntake metrics, SignalIntake signals, ArrivalBook arrivals)
{
    private const int LongestKey = 200;

    /// <summary>Looks at token and key.</summary>
    /// <param name="authorization">The header or metadata of that name.</param>
    /// <param name="key">The Idempotency-Key.</param>
    /// <param name="ofMetrics">Whether metrics are sent, else logs, traces or flows.</param>
    /// <param name="stop">Cancels.</param>
    public async Task<(Sender? Sender, IngestRefusal? Refusal)> Run(string? authorization, string? key, bool ofMetrics, CancellationToken stop)
    {
        var (token, cluster) = await tokens.Find(authorization, stop);
        if (token is null)
            return (null, new IngestRefusal(401, "The ingest token is missing or unknown. Send it as Authorization: Bearer."));
        if (!tokens.IsValid(token))
        {
            arrivals.NoteRefusal(token.ClusterId, token.RevokedAt ?? token.ExpiresAt);
            return (null, new IngestRefusal(401, token.RevokedAt is { } revoked
                ? $"The ingest token was revoked at {revoked:yyyy-MM-dd HH:mm:ss} UTC."
                : $"The ingest token expired at {token.ExpiresAt:yyyy-MM-dd HH:mm:ss} UTC."));
        }
        if (ofMetrics ? metrics.Crowded : signals.Crowded)
            return (null, new IngestRefusal(503, "The server is busy writing. Send the request again in 2 s.", 2));
        if (key is { Length: > LongestKey } or "" || key?.StartsWith("sha256:", StringComparison.Ordinal) == true)
            return (null, new IngestRefusal(400, $"The Idempotency-Key is empty, longer than {LongestKey} characters, or begins with sha256:."));
        return limits.Exhausted(token) is { } wait
            ? (null, new IngestRefusal(429, $"The ingest token may send {token.ItemsPerSecond:N0} samples, lines, spans and flows a second, and has sent more. Send the request again in {wait} s, or have the limit raised.", wait))
            : (new Sender(token, cluster, key), null);
    }
}
