using Skevin.Core.Query.Language;

namespace Skevin.Core.Query.Run;

/// <summary>Functions over several values.</summary>
public static class Folding
{
    /// <summary>The function over the values that are not NaN, in their order; NaN where there are none.</summary>
    public static double Fold(IEnumerable<double> values, Function function)
    {
        if (function.Kind == FunctionKind.Quantile)
            return Quantiles.Exact([.. values.Where(value => !double.IsNaN(value)).Select(value => (value, 1.0))], function.Quantile / 100);
        var (count, sum, least, greatest, first, last) = (0, 0.0, double.PositiveInfinity, double.NegativeInfinity, double.NaN, double.NaN);
        var spread = new Spread();
        foreach (var value in values)
        {
            if (double.IsNaN(value))
                continue;
            if (count++ == 0)
                first = value;
            last = value;
            sum += value;
            least = Math.Min(least, value);
            greatest = Math.Max(greatest, value);
            spread.Add(value, 1);
        }
        return count == 0 ? double.NaN : function.Kind switch
        {
            FunctionKind.Count => count,
            FunctionKind.Sum => sum,
            FunctionKind.Mean => sum / count,
            FunctionKind.Min => least,
            FunctionKind.Max => greatest,
            FunctionKind.StandardDeviation => spread.Deviation,
            FunctionKind.First => first,
            FunctionKind.Last => last,
            _ => throw new InvalidOperationException($"{function} is not taken over numbers."),
        };
    }

    /// <summary>Whether summaries tell the function over a stretch as well as the samples do.</summary>
    public static bool BySummary(Function function) =>
        function.Kind is FunctionKind.Count or FunctionKind.Sum or FunctionKind.Mean or FunctionKind.Min or FunctionKind.Max or FunctionKind.First or FunctionKind.Last;

    /// <summary>The same over summaries, where slots and stretch are whole numbers of theirs.</summary>
    public static double[] Trailing(Series.SummaryRun run, long stretch, Slots slots, Function function)
    {
        return function.Kind switch
        {
            FunctionKind.Count => Of(one => one.Count, FunctionKind.Sum),
            FunctionKind.Sum => Of(one => one.Sum, FunctionKind.Sum),
            FunctionKind.Mean => [.. Of(one => one.Sum, FunctionKind.Sum).Zip(Of(one => one.Count, FunctionKind.Sum), (sum, count) => sum / count)],
            FunctionKind.Min => Of(one => one.Min, FunctionKind.Min),
            FunctionKind.Max => Of(one => one.Max, FunctionKind.Max),
            FunctionKind.First => Of(one => one.First.Value, FunctionKind.First),
            FunctionKind.Last => Of(one => one.Last.Value, FunctionKind.Last),
            _ => throw new InvalidOperationException($"{function} is not told by summaries."),
        };

        double[] Of(Func<Series.SampleSummary, double> value, FunctionKind kind) =>
            Trailing([.. run.Summaries.Select(one => new Series.Sample(one.Last.Time, value(one)))], stretch, slots, new Function(kind));
    }

    /// <summary>
    /// The function over the trailing stretch at each slot's end t: over the values with t − stretch &lt; time ≤ t. NaN where there are none.
    /// </summary>
    /// <param name="samples">In order of time; NaN values are passed over.</param>
    /// <param name="stretch">Milliseconds.</param>
    /// <param name="slots">The slots.</param>
    /// <param name="function">The function.</param>
    public static double[] Trailing(IReadOnlyList<Series.Sample> samples, long stretch, Slots slots, Function function)
    {
        var values = new double[slots.Count];
        var (from, to) = (0, 0);
        // The extreme ones that may still become the answer, and a running sum that carries its rounding error (Neumaier 1974).
        var extremes = new LinkedList<Series.Sample>();
        var (count, sum, error) = (0, 0.0, 0.0);
        var running = function.Kind is FunctionKind.Count or FunctionKind.Sum or FunctionKind.Mean;
        var sign = function.Kind == FunctionKind.Max ? -1 : 1;
        for (var slot = 0; slot < values.Length; slot++)
        {
            var end = slots.FirstEnd + slot * slots.Width;
            for (; to < samples.Count && samples[to].Time <= end; to++)
            {
                var sample = samples[to];
                if (double.IsNaN(sample.Value))
                    continue;
                count++;
                if (running)
                    Add(sample.Value);
                else if (function.Kind is FunctionKind.Min or FunctionKind.Max)
                {
                    while (extremes.Last is { } last && sign * last.Value.Value >= sign * sample.Value)
                        extremes.RemoveLast();
                    extremes.AddLast(sample);
                }
            }
            for (; from < to && samples[from].Time <= end - stretch; from++)
            {
                if (double.IsNaN(samples[from].Value))
                    continue;
                count--;
                if (running)
                    Add(-samples[from].Value);
                if (count == 0)
                    (sum, error) = (0, 0);
            }
            while (extremes.First is { } first && first.Value.Time <= end - stretch)
                extremes.RemoveFirst();
            values[slot] = count == 0 ? double.NaN : function.Kind switch
            {
                FunctionKind.Count => count,
                FunctionKind.Sum => sum + error,
                FunctionKind.Mean => (sum + error) / count,
                FunctionKind.Min or FunctionKind.Max => extremes.First!.Value.Value,
                _ => Fold(Enumerable.Range(from, to - from).Select(i => samples[i].Value), function),
            };
        }
        return values;

        void Add(double value)
        {
            var next = sum + value;
            error += Math.Abs(sum) >= Math.Abs(value) ? sum - next + value : value - next + sum;
            sum = next;
        }
    }
}

/// <summary>Mean and standard deviation of weighted values in one pass (Welford 1962, West 1979).</summary>
public struct Spread
{
    private double _mean;
    private double _squares;

    /// <summary>How much weight was added.</summary>
    public double Weight { get; private set; }

    /// <summary>The standard deviation as of a sample (n − 1), a weight counting as that many values; NaN of fewer than two.</summary>
    public readonly double Deviation => Weight > 1 ? Math.Sqrt(_squares / (Weight - 1)) : double.NaN;

    /// <summary>Adds a value.</summary>
    public void Add(double value, double weight)
    {
        Weight += weight;
        var distance = value - _mean;
        _mean += distance * weight / Weight;
        _squares += weight * distance * (value - _mean);
    }
}
