namespace Skevin.Core.Query.Run;

/// <summary>
/// Quantiles of any number of values within a relative error, mergeable: values are counted in buckets whose bounds are powers of a base.
/// Source: Masson, Rim and Lee, "DDSketch", VLDB 2019, sections 2.1 and 2.2.
/// </summary>
public sealed class QuantileSketch
{
    /// <summary>Greatest relative error of a quantile.</summary>
    public const double RelativeError = 0.01;

    private const double Base = (1 + RelativeError) / (1 - RelativeError);
    private static readonly double LogBase = Math.Log(Base);

    // Buckets by sign: i holds (base^(i−1), base^i].
    private readonly SortedDictionary<int, double> _positive = [];
    private readonly SortedDictionary<int, double> _negative = [];
    private double _zero;

    /// <summary>How much weight was added.</summary>
    public double Weight { get; private set; }

    /// <summary>Adds a value that stands for several.</summary>
    public void Add(double value, double weight)
    {
        Weight += weight;
        if (value == 0)
            _zero += weight;
        else
            Add(value > 0 ? _positive : _negative, (int)Math.Ceiling(Math.Log(Math.Abs(value)) / LogBase), weight);
    }

    /// <summary>Adds what another holds.</summary>
    public void Merge(QuantileSketch other)
    {
        Weight += other.Weight;
        _zero += other._zero;
        foreach (var (bucket, weight) in other._positive)
            Add(_positive, bucket, weight);
        foreach (var (bucket, weight) in other._negative)
            Add(_negative, bucket, weight);
    }

    /// <summary>The value at position (n − 1) p, within <see cref="RelativeError"/>; NaN of nothing.</summary>
    /// <param name="p">0 to 1.</param>
    public double Quantile(double p)
    {
        if (Weight == 0)
            return double.NaN;
        var position = Math.Max(0, (Weight - 1) * p);
        var before = 0.0;
        foreach (var (bucket, weight) in _negative.Reverse())
            if ((before += weight) > position)
                return -Middle(bucket);
        if ((before += _zero) > position)
            return 0;
        foreach (var (bucket, weight) in _positive)
            if ((before += weight) > position)
                return Middle(bucket);
        return _positive.Count > 0 ? Middle(_positive.Keys.Last()) : _zero > 0 ? 0 : -Middle(_negative.Keys.First());
    }

    /// <summary>Writes it into a block.</summary>
    internal void Write(Blocks.BlockWriter writer)
    {
        writer.Double(_zero);
        foreach (var buckets in new[] { _positive, _negative })
        {
            writer.Unsigned((ulong)buckets.Count);
            var before = 0;
            foreach (var (bucket, weight) in buckets)
            {
                writer.Signed(bucket - before);
                before = bucket;
                writer.Double(weight);
            }
        }
    }

    /// <summary>Reads what <see cref="Write"/> wrote.</summary>
    /// <exception cref="FormatException">It is no such thing.</exception>
    internal static QuantileSketch Read(Blocks.BlockReader reader)
    {
        var sketch = new QuantileSketch { _zero = reader.Double() };
        sketch.Weight = sketch._zero;
        foreach (var buckets in new[] { sketch._positive, sketch._negative })
        {
            var bucket = 0L;
            for (var left = reader.Count(); left > 0; left--)
            {
                bucket += reader.Signed();
                if (bucket is < -100_000 or > 100_000)
                    throw new FormatException("The block is damaged: no bucket.");
                var weight = reader.Double();
                Add(buckets, (int)bucket, weight);
                sketch.Weight += weight;
            }
        }
        return sketch;
    }

    private static double Middle(int bucket) => 2 * Math.Pow(Base, bucket) / (Base + 1);

    private static void Add(SortedDictionary<int, double> buckets, int bucket, double weight) => buckets[bucket] = buckets.GetValueOrDefault(bucket) + weight;
}
