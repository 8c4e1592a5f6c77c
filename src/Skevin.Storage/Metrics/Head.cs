using System.Collections.Concurrent;
using System.Runtime.InteropServices;
using Skevin.Core.Series;

namespace Skevin.Storage.Metrics;

/// <summary>What adding a sample to the head found.</summary>
public enum HeadAdd
{
    /// <summary>It was new.</summary>
    Added,

    /// <summary>The same sample was there.</summary>
    Same,

    /// <summary>Another value was there; the first one wins.</summary>
    Conflict,
}

/// <summary>The newest samples of every series in memory, in order of time. The batch rows rebuild it.</summary>
public sealed class Head
{
    private readonly ConcurrentDictionary<long, List<Sample>> _series = new();

    /// <summary>Samples earlier than this are read from the batch rows, epoch milliseconds.</summary>
    public long Start { get; private set; } = long.MinValue;

    /// <summary>Whether a sample is there, and with which value.</summary>
    public HeadAdd Look(long series, Sample sample)
    {
        if (!_series.TryGetValue(series, out var samples))
            return HeadAdd.Added;
        lock (samples)
        {
            var at = IndexOf(samples, sample.Time);
            return at < 0 ? HeadAdd.Added : Compare(samples[at], sample);
        }
    }

    /// <summary>Adds a sample; one that is there already stays as it is.</summary>
    public HeadAdd Add(long series, Sample sample)
    {
        var samples = _series.GetOrAdd(series, _ => []);
        lock (samples)
        {
            if (samples.Count == 0 || samples[^1].Time < sample.Time)
            {
                samples.Add(sample);
                return HeadAdd.Added;
            }
            var at = IndexOf(samples, sample.Time);
            if (at >= 0)
                return Compare(samples[at], sample);
            samples.Insert(~at, sample);
            return HeadAdd.Added;
        }
    }

    /// <summary>Samples with from &lt; time ≤ to.</summary>
    public Sample[] Read(long series, long from, long to)
    {
        if (!_series.TryGetValue(series, out var samples))
            return [];
        lock (samples)
        {
            var first = IndexOf(samples, from + 1);
            first = first < 0 ? ~first : first;
            var last = IndexOf(samples, to + 1);
            last = last < 0 ? ~last : last;
            return CollectionsMarshal.AsSpan(samples)[first..Math.Max(first, last)].ToArray();
        }
    }

    /// <summary>Whether the series has a sample with from &lt; time ≤ to.</summary>
    public bool Has(long series, long from, long to)
    {
        if (!_series.TryGetValue(series, out var samples))
            return false;
        lock (samples)
        {
            var first = IndexOf(samples, from + 1);
            first = first < 0 ? ~first : first;
            return first < samples.Count && samples[first].Time <= to;
        }
    }

    /// <summary>Lets go of samples before a moment.</summary>
    public void TrimTo(long start)
    {
        Start = Math.Max(Start, start);
        foreach (var (series, samples) in _series)
        {
            lock (samples)
            {
                var keep = IndexOf(samples, start);
                samples.RemoveRange(0, keep < 0 ? ~keep : keep);
                if (samples.Count == 0)
                    _series.TryRemove(series, out _);
            }
        }
    }

    private static HeadAdd Compare(Sample there, Sample fresh) =>
        there.Value.Equals(fresh.Value) ? HeadAdd.Same : HeadAdd.Conflict;

    private static int IndexOf(List<Sample> samples, long time)
    {
        var (low, high) = (0, samples.Count - 1);
        while (low <= high)
        {
            var middle = (low + high) / 2;
            if (samples[middle].Time == time)
                return middle;
            if (samples[middle].Time < time)
                low = middle + 1;
            else
                high = middle - 1;
        }
        return ~low;
    }
}
