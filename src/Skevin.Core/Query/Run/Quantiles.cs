namespace Skevin.Core.Query.Run;

/// <summary>Quantiles of values that may stand for several.</summary>
public static class Quantiles
{
    /// <summary>Quantiles of rows are exact up to so many values in an answer; above, they come from <see cref="QuantileSketch"/>.</summary>
    public const int MostExact = 1_000_000;

    /// <summary>
    /// The quantile by definition R-7 (linear between the values around position (n − 1) p, Hyndman and Fan 1996), each value counted
    /// as often as its weight says. NaN of nothing.
    /// </summary>
    /// <param name="values">Values and weights; sorted in place.</param>
    /// <param name="p">0 to 1.</param>
    public static double Exact(List<(double Value, double Weight)> values, double p)
    {
        if (values.Count == 0)
            return double.NaN;
        values.Sort((a, b) => a.Value.CompareTo(b.Value));
        var whole = 0.0;
        foreach (var (_, weight) in values)
            whole += weight;
        var position = (whole - 1) * p;
        if (position <= 0)
            return values[0].Value;
        var (below, part) = (Math.Floor(position), position - Math.Floor(position));
        var low = At(values, below);
        return part == 0 ? low : low + (At(values, below + 1) - low) * part;
    }

    // The value at a position counted from 0, each value filling as many positions as its weight.
    private static double At(List<(double Value, double Weight)> values, double position)
    {
        var before = 0.0;
        foreach (var (value, weight) in values)
        {
            before += weight;
            if (position < before - 1e-9)
                return value;
        }
        return values[^1].Value;
    }
}
