using System.Security.Cryptography;
using System.Text;

namespace Skevin.Core.Series;

/// <summary>What the values of a series are.</summary>
public enum SeriesKind
{
    /// <summary>Only rises, except at a reset (a monotonic cumulative sum).</summary>
    Counter,

    /// <summary>A value that stands for itself at its time.</summary>
    Gauge,

    /// <summary>How many observations fell into each bucket, rising as a counter does.</summary>
    Histogram,
}

/// <summary>The identity of a series inside one cluster: metric, kind, UCUM unit and attributes.</summary>
public sealed record SeriesKey(string Metric, SeriesKind Kind, string Unit, Labels Labels)
{
    // Looked up for every sample that comes in.
    private int _hash;

    private SeriesKey(SeriesKey other) => (Metric, Kind, Unit, Labels) = other;

    /// <inheritdoc/>
    public bool Equals(SeriesKey? other) =>
        other is not null && GetHashCode() == other.GetHashCode() && Kind == other.Kind && Metric == other.Metric && Unit == other.Unit && Labels.Equals(other.Labels);

    /// <inheritdoc/>
    public override int GetHashCode() => _hash != 0 ? _hash : _hash = HashCode.Combine(Metric, Kind, Unit, Labels);

    /// <summary>SHA-256 over the identity and the cluster's number: 32 bytes, unique in the series table.</summary>
    public byte[] Hash(int cluster)
    {
        var head = Encoding.UTF8.GetBytes($"{cluster}\0{Metric}\0{(int)Kind}\0{Unit}\0");
        return SHA256.HashData([.. head, .. Labels.Canonical()]);
    }
}

/// <summary>What stands at a moment.</summary>
public interface ITimed<T>
{
    /// <summary>Epoch milliseconds.</summary>
    long Time { get; }

    /// <summary>Whether another one of the same time says the same.</summary>
    bool Agrees(T other);
}

/// <summary>One value of a series.</summary>
/// <param name="Time">Epoch milliseconds.</param>
/// <param name="Value">In the series' unit.</param>
/// <param name="Start">For counters: when counting began, epoch milliseconds; 0 where the sender did not say.</param>
public readonly record struct Sample(long Time, double Value, long Start = 0) : ITimed<Sample>
{
    /// <inheritdoc/>
    public bool Agrees(Sample other) => Value.Equals(other.Value);
}

/// <summary>A series as the store knows it.</summary>
/// <param name="Source">The expected source whose agent sent its first samples, or null where a program sent them by itself.</param>
public sealed record StoredSeries(long Id, int Cluster, SeriesKey Key, string? Source = null);
