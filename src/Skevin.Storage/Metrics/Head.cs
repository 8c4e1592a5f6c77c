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
public sealed class Head<T> where T : ITimed<T>
{
    private readonly ConcurrentDictionary<long, List<T>> _series = new();

    /// <summary>Samples earlier than this are read from the batch rows, epoch milliseconds.</summary>
    public long Start { get; private set; } = long.MinValue;

    /// <summary>Whether a sample is there, and with which value.</summary>
    public HeadAdd Look(long series, T sample)
    {
        if (!_series.TryGetValue(series, out var samples))
            return HeadAdd.Added;
        lock (samples)
        {
            var at = IndexOf(samples, sample.Time);
            return at < 0 ? HeadAdd.Added : Compare(samples[at], sample);
        }
    }

    /// <summary>Time of the newest sample of a series, epoch milliseconds; <see cref="long.MinValue"/> of none.</summary>
    public long Newest(long series)
    {
        if (!_series.TryGetValue(series, out var samples))
            return long.MinValue;
        lock (samples)
            return samples.Count == 0 ? long.MinValue : samples[^1].Time;
    }

    /// <summary>Adds samples of one series, in order of time, that are not there yet.</summary>
    public void Add(long series, IReadOnlyList<T> fresh)
    {
        var samples = _series.GetOrAdd(series, _ => []);
        lock (samples)
        {
            if (samples.Count == 0 || samples[^1].Time < fresh[0].Time)
            {
                samples.AddRange(fresh);
                return;
            }
        }
        foreach (var sample in fresh)
            Add(series, sample);
    }

    /// <summary>Adds a sample; one that is there already stays as it is.</summary>
    public HeadAdd Add(long series, T sample)
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
    public T[] Read(long series, long from, long to)
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

    private static HeadAdd Compare(T there, T fresh) =>
        there.Agrees(fresh) ? HeadAdd.Same : HeadAdd.Conflict;

    private static int IndexOf(List<T> samples, long time)
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

/// <summary>The newest samples of all series, numbers and histograms.</summary>
public sealed class Heads
{
    /// <summary>Of counters and gauges.</summary>
    public Head<Sample> Samples { get; } = new();

    /// <summary>Of histograms.</summary>
    public Head<HistogramSample> Histograms { get; } = new();

    /// <summary>What is earlier is read from the store, epoch milliseconds.</summary>
    public long Start => Samples.Start;

    /// <summary>Whether the series has a sample with from &lt; time ≤ to.</summary>
    public bool Has(StoredSeries series, long from, long to) =>
        series.Key.Kind == SeriesKind.Histogram ? Histograms.Has(series.Id, from, to) : Samples.Has(series.Id, from, to);

    /// <summary>Lets go of samples before a moment.</summary>
    public void TrimTo(long start)
    {
        Samples.TrimTo(start);
        Histograms.TrimTo(start);
    }
}
