using System.Collections.Concurrent;
using Skevin.Core.Arrivals;

namespace Skevin.Server.Ingest;

/// <summary>By how much the clocks of senders differ from the server's, from the <c>Date</c> of their requests. Source: RFC 9110, "Date".</summary>
public sealed class SenderClocks(TimeProvider clock)
{
    // What is further away is data of the past that is being made up for, not a clock.
    private static readonly TimeSpan Most = TimeSpan.FromHours(1);
    private static readonly TimeSpan Kept = TimeSpan.FromMinutes(2);

    private readonly ConcurrentDictionary<(int Cluster, string Sender), (TimeSpan Ahead, DateTimeOffset At)> _last = new();

    /// <summary>Notes a request.</summary>
    /// <param name="cluster">The token's cluster.</param>
    /// <param name="sender">Who it says it is.</param>
    /// <param name="date">The date it carries; null for none.</param>
    public void Note(int cluster, string? sender, DateTimeOffset? date)
    {
        var now = clock.GetUtcNow();
        if (sender is { Length: > 0 } && date is { } at && (at - now).Duration() < Most)
            _last[(cluster, sender)] = (at - now, now);
    }

    /// <summary>Senders of a cluster that sent lately.</summary>
    public IReadOnlyDictionary<string, TimeSpan> Of(int cluster)
    {
        var now = clock.GetUtcNow();
        foreach (var old in _last.Where(pair => now - pair.Value.At > Kept).ToArray())
            _last.TryRemove(old);
        return _last.Where(pair => pair.Key.Cluster == cluster).ToDictionary(pair => pair.Key.Sender, pair => pair.Value.Ahead);
    }
}
