using Skevin.Core.Formats.Otlp;
using Skevin.Core.Series;

namespace Skevin.Storage.Metrics;

/// <summary>Fresh samples of one series, in order of time.</summary>
internal readonly record struct FreshRun<T>(int Cluster, long Series, List<T> Samples);

/// <summary>Parts what is new from what is there already, in the head or in what is committed together; of two for the same moment the first one stays.</summary>
internal sealed class Sieve<T>(Head<T> head) where T : ITimed<T>
{
    private readonly Dictionary<long, (int Cluster, long Newest, List<T> Samples)> _fresh = [];

    /// <summary>What is new, by series.</summary>
    public IReadOnlyList<FreshRun<T>> Fresh => [.. _fresh.Where(one => one.Value.Samples.Count > 0).Select(one => new FreshRun<T>(one.Value.Cluster, one.Key, one.Value.Samples)).OrderBy(run => run.Series)];

    /// <summary>Takes the points of a request.</summary>
    /// <param name="cluster">The token's cluster.</param>
    /// <param name="numbers">Of the runs' series.</param>
    /// <param name="runs">The points.</param>
    /// <returns>How many are new, and how many contradict what is there.</returns>
    public (int Stored, int Conflicts) Take(int cluster, long[] numbers, IReadOnlyList<IncomingRun<T>> runs)
    {
        var (stored, conflicts) = (0, 0);
        for (var i = 0; i < numbers.Length; i++)
        {
            var series = numbers[i];
            if (!_fresh.TryGetValue(series, out var there))
                _fresh[series] = there = (cluster, head.Newest(series), []);
            foreach (var point in runs[i].Points)
                switch (point.Time > there.Newest && (there.Samples.Count == 0 || point.Time > there.Samples[^1].Time) ? Append(there.Samples, point) : Insert(series, there.Samples, point))
                {
                    case HeadAdd.Added:
                        stored++;
                        break;
                    case HeadAdd.Conflict:
                        conflicts++;
                        break;
                }
        }
        return (stored, conflicts);
    }

    /// <summary>Puts what is new into the head, as far as it reaches back.</summary>
    public void IntoHead()
    {
        foreach (var (series, (_, _, samples)) in _fresh)
        {
            var first = samples.FindIndex(sample => sample.Time >= head.Start);
            if (first >= 0)
                head.Add(series, first == 0 ? samples : samples[first..]);
        }
    }

    private static HeadAdd Append(List<T> samples, T point)
    {
        samples.Add(point);
        return HeadAdd.Added;
    }

    private HeadAdd Insert(long series, List<T> samples, T point)
    {
        if (head.Look(series, point) is var look && look != HeadAdd.Added)
            return look;
        var at = samples.FindIndex(sample => sample.Time >= point.Time);
        if (at >= 0 && samples[at].Time == point.Time)
            return samples[at].Agrees(point) ? HeadAdd.Same : HeadAdd.Conflict;
        samples.Insert(at < 0 ? samples.Count : at, point);
        return HeadAdd.Added;
    }
}
