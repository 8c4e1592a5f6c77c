using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Alarms.Baselines;

/// <summary>What is usual: the middle, and how far values lie from it.</summary>
/// <param name="Middle">The median.</param>
/// <param name="Spread">A robust standard deviation; above 0.</param>
/// <param name="Values">From how many values.</param>
public sealed record UsualValue(double Middle, double Spread, int Values);

/// <summary>
/// What is usual in the same hour of the week: median and robust spread of the values of that hour in the weeks before. It has no memory of
/// its own: live judging and replay ask for the same weeks and get the same bounds. Hours and weeks are those of UTC.
/// Where things are counted, what was not seen in a week counts as none of it, and the spread is at least that of chance alone, the root of
/// the middle (Poisson; source: textbook): so what never was there before is unusual once there is enough of it.
/// </summary>
/// <param name="weeks">The answer of each week before, shifted by so many weeks: the first of one week ago, and so on.</param>
/// <param name="usual">How much is unusual.</param>
/// <param name="counted">Whether the values are counts of rows, see <see cref="Counts"/>.</param>
public sealed class SeasonalBaseline(IReadOnlyList<Answer> weeks, UsualDocument usual, bool counted = false)
{
    /// <summary>A week in milliseconds.</summary>
    public const long Week = 7 * 24 * Hour;

    private const long Hour = 3_600_000;

    /// <summary>Fewest weeks with values; below, nothing is usual yet.</summary>
    public const int FewestWeeks = 2;

    private const int FewestValues = 4;

    // A value that is always the same has no spread; then so large a part of it counts as one.
    private const double LeastShare = 0.02;

    // √(π/2): the same for the mean distance. Source: textbook.
    private const double OfMeans = 1.2533141373155001;

    // 1 / Φ⁻¹(3/4): makes the median of deviations the standard deviation of a normal distribution. Source: textbook, and MathNet in the tests.
    private const double Consistency = 1.4826022185056018;

    private readonly Dictionary<Labels, (int Week, AnswerSeries Series)[]> _series = weeks.SelectMany((answer, i) => answer.Series.Select(series => (Week: i, series))).GroupBy(one => one.series.Labels).ToDictionary(group => group.Key, group => group.ToArray());
    private readonly Dictionary<(Labels, long), UsualValue?> _known = [];

    /// <summary>Whether an enquiry answers with counts of rows: a slot in which nothing was found holds 0.</summary>
    public static bool Counts(Enquiry enquiry) => enquiry.Answered is { Source: RowSource, Steps: var steps } && steps.OfType<AggregateStep>().ToArray() is [{ Function.Kind: FunctionKind.Count, Field: null }]
        && steps.All(step => step is WhereStep or ParseStep or SetStep or AggregateStep);

    /// <summary>Median and robust spread of values; null where there are none.</summary>
    public static UsualValue? Of(IEnumerable<double> values)
    {
        var sorted = values.Where(double.IsFinite).Order().ToArray();
        if (sorted.Length == 0)
            return null;
        var middle = Median(sorted);
        var distances = sorted.Select(value => Math.Abs(value - middle)).Order().ToArray();
        // Where more than half of them are the same, the median distance says nothing; the mean distance still does.
        var spread = Median(distances) is > 0 and var median ? Consistency * median : OfMeans * distances.Average();
        return new UsualValue(middle, Math.Max(spread, Math.Max(Math.Abs(middle) * LeastShare, double.Epsilon)), sorted.Length);
    }

    /// <summary>What is usual for a series in a slot; null where too little is known.</summary>
    /// <param name="labels">The series.</param>
    /// <param name="slotEnd">End of the slot, epoch milliseconds.</param>
    /// <param name="width">Its width in milliseconds.</param>
    public UsualValue? At(Labels labels, long slotEnd, long width)
    {
        // A slot belongs to the hour it begins in.
        var hour = (slotEnd - width) / Hour * Hour;
        if (_known.TryGetValue((labels, hour), out var known))
            return known;
        var seen = 0;
        var values = new List<double>();
        var own = _series.GetValueOrDefault(labels) ?? [];
        // Whatever was counted in a week tells in which slots there was anything to count.
        var none = counted ? weeks.Index().Where(week => week.Item.Series.Count > 0 && own.All(one => one.Week != week.Index)).Select(week => (Week: week.Index, Series: week.Item.Series[0], Zero: true)) : [];
        foreach (var (week, series, zero) in own.Select(one => (one.Week, one.Series, Zero: false)).Concat(none))
        {
            var answer = weeks[week];
            var begin = hour - (week + 1) * Week;
            var before = values.Count;
            for (var i = Math.Max(0, (begin + width - answer.FirstEnd + width - 1) / width); i < series.Values.Length && answer.FirstEnd + i * width <= begin + Hour; i++)
                if (double.IsFinite(series.Values[i]))
                    values.Add(zero ? 0 : series.Values[i]);
            seen += values.Count > before ? 1 : 0;
        }
        return _known[(labels, hour)] = seen >= FewestWeeks && values.Count >= FewestValues ? Least(Of(values)) : null;
    }

    private UsualValue? Least(UsualValue? known) => counted && known is not null ? known with { Spread = Math.Max(known.Spread, Math.Sqrt(Math.Max(known.Middle, 1))) } : known;

    /// <summary>The bounds of a slot; null where too little is known.</summary>
    /// <inheritdoc cref="At" path="/param"/>
    public Bounds? BoundsAt(Labels labels, long slotEnd, long width) => At(labels, slotEnd, width) is { } known ? BoundsOf(known, usual) : null;

    /// <summary>Bounds so many spreads from the middle.</summary>
    public static Bounds BoundsOf(UsualValue known, UsualDocument usual)
    {
        var (above, below) = (known.Middle + usual.Spreads * known.Spread, known.Middle - usual.Spreads * known.Spread);
        double? upper = usual.Side == UsualSide.Low ? null : above;
        double? lower = usual.Side == UsualSide.High ? null : below;
        return new Bounds(upper, lower, upper, lower);
    }

    private static double Median(double[] sorted) => sorted.Length % 2 == 1 ? sorted[sorted.Length / 2] : (sorted[sorted.Length / 2 - 1] + sorted[sorted.Length / 2]) / 2;
}
