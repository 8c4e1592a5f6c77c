namespace Skevin.Core.Formats.OpenMetrics;

/// <summary>Kinds of metric family in an exposition.</summary>
public enum FamilyType
{
    /// <summary>No type given.</summary>
    Unknown,

    /// <summary>A value for itself.</summary>
    Gauge,

    /// <summary>Only rises.</summary>
    Counter,

    /// <summary>Cumulative buckets.</summary>
    Histogram,

    /// <summary>Buckets that may fall.</summary>
    GaugeHistogram,

    /// <summary>Quantiles computed by the sender.</summary>
    Summary,

    /// <summary>Text in labels; the value is 1.</summary>
    Info,

    /// <summary>One of several states.</summary>
    StateSet,
}

/// <summary>An example attached to a bucket or counter.</summary>
public sealed record OpenMetricsExemplar(IReadOnlyList<KeyValuePair<string, string>> Labels, double Value, double? Timestamp);

/// <summary>One line of values.</summary>
/// <param name="Suffix">What follows the family's name: empty, <c>_total</c>, <c>_bucket</c>, <c>_created</c> …</param>
/// <param name="Labels">In the order written.</param>
/// <param name="Value">The number.</param>
/// <param name="Timestamp">Seconds since the epoch, where given.</param>
/// <param name="Exemplar">Where given.</param>
public sealed record OpenMetricsSample(
    string Suffix, IReadOnlyList<KeyValuePair<string, string>> Labels, double Value, double? Timestamp,
    OpenMetricsExemplar? Exemplar);

/// <summary>A family: name, type, unit, help and its samples.</summary>
public sealed record OpenMetricsFamily(
    string Name, FamilyType Type, string Unit, string Help, IReadOnlyList<OpenMetricsSample> Samples);

/// <summary>What an exposition holds.</summary>
/// <param name="Families">In the order written.</param>
/// <param name="Error">Null, or what is wrong with the line named in it; families before it were read.</param>
public sealed record OpenMetricsReading(IReadOnlyList<OpenMetricsFamily> Families, string? Error);
