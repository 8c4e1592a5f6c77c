namespace Skevin.Core.Series;

/// <summary>What the samples of one stretch of time come to, so that wide slots need no samples.</summary>
/// <param name="Count">How many.</param>
/// <param name="Sum">Their sum.</param>
/// <param name="Min">The least.</param>
/// <param name="Max">The greatest.</param>
/// <param name="First">The first.</param>
/// <param name="Last">The last.</param>
/// <param name="Rise">Of a counter: what it rose by from sample to sample inside the stretch, resets counted, gaps left out; NaN where nothing tells.</param>
public readonly record struct SampleSummary(int Count, double Sum, double Min, double Max, Sample First, Sample Last, double Rise);

/// <summary>Summaries of one series, in order of time; stretches without samples have none.</summary>
/// <param name="Interval">Collection interval in milliseconds; NaN of a single sample.</param>
/// <param name="Summaries">Of stretches (end − width, end] with ends that are multiples of the width since the Unix epoch.</param>
/// <param name="Gaps">Gaps that lie inside a stretch.</param>
public sealed record SummaryRun(double Interval, IReadOnlyList<SampleSummary> Summaries, IReadOnlyList<CounterGap> Gaps)
{
    /// <summary>Nothing.</summary>
    public static SummaryRun None { get; } = new(double.NaN, [], []);

    /// <summary>
    /// The widths that are kept, narrow to wide, in milliseconds; each divides the next. Every width of a slot from five minutes on that is chosen where none is named is
    /// a whole number of the first, from half an hour on of the second, from an hour on of the third.
    /// </summary>
    public static readonly long[] Widths = [5 * 60_000, 30 * 60_000, 3_600_000];

    /// <summary>End of the stretch a moment lies in.</summary>
    public static long EndOf(long time, long width) => (time + width - 1) / width * width;

    /// <summary>Summaries of samples in order of time.</summary>
    /// <param name="samples">Each time once; NaN values are left out.</param>
    /// <param name="width">Milliseconds.</param>
    public static SummaryRun Of(ReadOnlySpan<Sample> samples, long width)
    {
        if (samples.Length == 0)
            return None;
        // Wide ones are made of narrow ones, wherever that happens, so that they agree to the last bit.
        if (width > Widths[0])
            return Joined([Of(samples, Widths[0])], width);
        var interval = samples.Length switch { 1 => double.NaN, 2 => samples[1].Time - samples[0].Time, _ => CollectionInterval.Of(samples) };
        var (summaries, gaps) = (new List<SampleSummary>(), new List<CounterGap>());
        foreach (var sample in samples)
            if (!double.IsNaN(sample.Value))
                Append(summaries, gaps, new SampleSummary(1, sample.Value, sample.Value, sample.Value, sample, sample, double.NaN), width, interval);
        return new SummaryRun(interval, summaries, gaps);
    }

    /// <summary>Runs that follow each other in time as one; they share no stretch.</summary>
    public static SummaryRun Following(IReadOnlyList<SummaryRun> runs)
    {
        if (runs.Count == 1)
            return runs[0];
        var summaries = new List<SampleSummary>(runs.Sum(run => run.Summaries.Count));
        foreach (var run in runs)
            summaries.AddRange(run.Summaries);
        return new SummaryRun(IntervalOf(runs), summaries, [.. runs.SelectMany(run => run.Gaps)]);
    }

    /// <summary>Runs that follow each other in time as one, at a width that is a multiple of theirs.</summary>
    public static SummaryRun Joined(IReadOnlyList<SummaryRun> runs, long width)
    {
        var interval = IntervalOf(runs);
        var (summaries, gaps) = (new List<SampleSummary>(), new List<CounterGap>());
        foreach (var run in runs)
        {
            gaps.AddRange(run.Gaps);
            foreach (var summary in run.Summaries)
                Append(summaries, gaps, summary, width, interval);
        }
        return new SummaryRun(interval, summaries, gaps);
    }

    // Where no run tells, each is a single sample, and their spacing does.
    private static double IntervalOf(IReadOnlyList<SummaryRun> runs)
    {
        var told = runs.Select(run => run.Interval).Where(interval => !double.IsNaN(interval)).Order().ToArray();
        return told.Length > 0 ? told[told.Length / 2] : CollectionInterval.Of([.. runs.SelectMany(run => run.Summaries).Select(summary => summary.First)]);
    }

    /// <summary>The same, so much later.</summary>
    public SummaryRun Later(long by)
    {
        Sample Moved(Sample sample) => sample with { Time = sample.Time + by };
        return new(Interval, [.. Summaries.Select(one => one with { First = Moved(one.First), Last = Moved(one.Last) })], [.. Gaps.Select(gap => gap with { From = gap.From + by, To = gap.To + by })]);
    }

    private static void Append(List<SampleSummary> summaries, List<CounterGap> gaps, SampleSummary next, long width, double interval)
    {
        if (summaries.Count == 0 || EndOf(summaries[^1].First.Time, width) != EndOf(next.First.Time, width))
        {
            summaries.Add(next);
            return;
        }
        var before = summaries[^1];
        var rise = Plus(before.Rise, next.Rise);
        if (CounterRise.Apart(before.Last.Time, next.First.Time, interval))
            gaps.Add(new CounterGap(before.Last.Time, next.First.Time, CounterRise.Between(before.Last, next.First)));
        else
            rise = Plus(rise, CounterRise.Between(before.Last, next.First));
        summaries[^1] = new SampleSummary(before.Count + next.Count, before.Sum + next.Sum, Math.Min(before.Min, next.Min), Math.Max(before.Max, next.Max), before.First, next.Last, rise);
    }

    private static double Plus(double one, double other) => double.IsNaN(one) ? other : double.IsNaN(other) ? one : one + other;
}
