using System.Diagnostics;
using System.Diagnostics.Metrics;

namespace Skevin.Server.Setup;

/// <summary>What the server measures of its own work, beside what the platform measures of it.</summary>
public static class OwnMetrics
{
    /// <summary>Name of the meter.</summary>
    public const string Meter = "Skevin.Server";

    private static readonly Meter Own = new(Meter);
    private static readonly InstrumentAdvice<double> Seconds = new() { HistogramBucketBoundaries = [0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30] };
    private static readonly Counter<long> Items = Own.CreateCounter<long>("skevin.server.items.accepted", "{item}", "Samples, log records, spans and flow records that are committed.");
    private static readonly Counter<long> Refused = Own.CreateCounter<long>("skevin.server.items.refused", "{item}", "Items of accepted requests that were refused, by their stamp or form.");
    private static readonly Histogram<double> Enquiries = Own.CreateHistogram("skevin.server.enquiry.duration", "s", "How long enquiries took.", null, Seconds);
    private static readonly Histogram<double> Passes = Own.CreateHistogram("skevin.server.worker.duration", "s", "How long a pass of a worker took.", null, Seconds);
    private static readonly Counter<long> Tries = Own.CreateCounter<long>("skevin.server.messages.tried", "{message}", "Attempts to deliver a message.");

    /// <summary>Counts what a request brought.</summary>
    public static void Took(string signal, string cluster, int accepted, int refused)
    {
        Items.Add(accepted, new KeyValuePair<string, object?>("skevin.signal", signal), new("skevin.cluster", cluster));
        // Nothing refused is a figure too.
        Refused.Add(refused, new KeyValuePair<string, object?>("skevin.signal", signal), new("skevin.cluster", cluster));
    }

    /// <summary>Notes an enquiry.</summary>
    /// <param name="began">Stamp of <see cref="Stopwatch"/> at its beginning.</param>
    public static void Asked(long began) => Enquiries.Record(Stopwatch.GetElapsedTime(began).TotalSeconds);

    /// <summary>Notes a pass of a worker.</summary>
    public static void Worked(string worker, long began) => Passes.Record(Stopwatch.GetElapsedTime(began).TotalSeconds, new KeyValuePair<string, object?>("skevin.worker", worker));

    /// <summary>Notes an attempt to deliver a message.</summary>
    public static void Tried(bool delivered) => Tries.Add(1, new KeyValuePair<string, object?>("skevin.outcome", delivered ? "delivered" : "failed"));
}
