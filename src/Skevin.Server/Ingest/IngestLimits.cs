using System.Collections.Concurrent;
using Skevin.Storage;

namespace Skevin.Server.Ingest;

/// <summary>
/// How much a token may send. What is left fills up with the rate the token has, to ten seconds of it; a request is taken while something is left, and all it brings
/// is taken off, so that one that is larger than the rest is not refused for ever. Each server counts what reaches it.
/// </summary>
public sealed class IngestLimits(TimeProvider clock)
{
    private const double Seconds = 10;

    private readonly ConcurrentDictionary<Guid, (double Left, DateTimeOffset At)> _left = new();

    /// <summary>Seconds until the token may send again; null where it may now.</summary>
    public int? Exhausted(IngestTokenRow token) =>
        token.ItemsPerSecond is { } rate && Left(token.Id, rate) is var left && left <= 0 ? Math.Max(1, (int)Math.Ceiling(-left / rate)) : null;

    /// <summary>Takes off what a request brought: samples, lines, spans or flows.</summary>
    public void Take(IngestTokenRow token, int items)
    {
        if (token.ItemsPerSecond is { } rate)
            _left.AddOrUpdate(token.Id, _ => (rate * Seconds - items, clock.GetUtcNow()), (_, before) => (Filled(before, rate) - items, clock.GetUtcNow()));
    }

    private double Left(Guid token, double rate) => _left.TryGetValue(token, out var before) ? Filled(before, rate) : rate * Seconds;

    private double Filled((double Left, DateTimeOffset At) before, double rate) => Math.Min(rate * Seconds, before.Left + (clock.GetUtcNow() - before.At).TotalSeconds * rate);
}
