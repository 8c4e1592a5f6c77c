namespace Skevin.Core.Formats.Otlp;

/// <summary>What one expected source contributed to a request.</summary>
/// <param name="Signal">metrics, logs, traces or flows.</param>
/// <param name="Source">The source's name as the agent gave it.</param>
/// <param name="Minutes">Minutes since the epoch with how many samples, lines, spans or flows fell into each.</param>
/// <param name="Newest">The newest stamp, epoch milliseconds.</param>
public sealed record SourceArrival(string Signal, string Source, IReadOnlyDictionary<long, int> Minutes, long Newest);

/// <summary>Counts by source and minute.</summary>
public sealed class SourceTally(string signal)
{
    private readonly Dictionary<string, (Dictionary<long, int> Minutes, long Newest)> _sources = new(StringComparer.Ordinal);

    /// <summary>Counts some of a source at a time, epoch milliseconds.</summary>
    public void Count(string source, long milliseconds, int count = 1)
    {
        var (minutes, newest) = _sources.GetValueOrDefault(source, ([], 0));
        minutes[milliseconds / 60_000] = minutes.GetValueOrDefault(milliseconds / 60_000) + count;
        _sources[source] = (minutes, Math.Max(newest, milliseconds));
    }

    /// <summary>The counts.</summary>
    public IReadOnlyList<SourceArrival> Arrivals => [.. _sources.Select(pair => new SourceArrival(signal, pair.Key, pair.Value.Minutes, pair.Value.Newest))];
}
