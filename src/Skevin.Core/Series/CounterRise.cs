namespace Skevin.Core.Series;

/// <summary>A stretch in which nothing was received, and what the counter rose by across it.</summary>
/// <param name="From">Time of the last sample before the gap, epoch milliseconds.</param>
/// <param name="To">Time of the first sample after it.</param>
/// <param name="Rise">What cannot be given to a slot.</param>
public readonly record struct CounterGap(long From, long To, double Rise);

/// <summary>How much a counter rose in each slot.</summary>
public static class CounterRise
{
    /// <summary>A first sample counts from its start time only if that is at most this much earlier.</summary>
    public static readonly long FirstSampleReach = (long)TimeSpan.FromMinutes(5).TotalMilliseconds;

    /// <summary>Gaps longer than this many collection intervals are noted, not spread.</summary>
    public const double GapIntervals = 2.5;

    /// <summary>What the counter rose by from one sample to the next: after a reset, the value itself.</summary>
    public static double Between(Sample before, Sample after) =>
        after.Value < before.Value || Anew(before.Time, after.Start) ? after.Value : after.Value - before.Value;

    /// <summary>Whether counting began anew since a moment. What is sent as the rise since the last time (delta temporality) begins anew each time.</summary>
    public static bool Anew(long before, long start) => start > 0 && start >= before;

    /// <summary>Whether two successive samples lie so far apart that nothing is known of the time between.</summary>
    public static bool Apart(long before, long after, double interval) => after - before > GapIntervals * interval;

    /// <summary>
    /// Adds up the rises between successive samples, splitting a rise across a slot boundary in proportion to time.
    /// Slots and gaps together equal the whole rise: nothing is extrapolated.
    /// </summary>
    /// <param name="samples">In order of time; may begin before <paramref name="from"/> and end after the last slot.</param>
    /// <param name="from">Start of the first slot (excluded), epoch milliseconds.</param>
    /// <param name="width">Width of a slot in milliseconds.</param>
    /// <param name="slots">Receives the rise of each slot; NaN where a slot has nothing.</param>
    /// <param name="interval">Collection interval in milliseconds.</param>
    /// <returns>Gaps that touch the window.</returns>
    public static List<CounterGap> IntoSlots(
        ReadOnlySpan<Sample> samples, long from, long width, double[] slots, double interval)
    {
        var into = new Spreading(from, width, slots, interval);
        for (var i = 0; i < samples.Length; i++)
            if (i == 0)
                into.First(samples[i]);
            else
                into.Pair(samples[i - 1], samples[i]);
        return into.Gaps;
    }

    /// <summary>The same of summaries, where slots are whole numbers of their stretches.</summary>
    /// <param name="run">Of a counter.</param>
    /// <inheritdoc cref="IntoSlots(ReadOnlySpan{Sample}, long, long, double[], double)"/>
    public static List<CounterGap> IntoSlots(SummaryRun run, long from, long width, double[] slots)
    {
        var into = new Spreading(from, width, slots, run.Interval);
        foreach (var gap in run.Gaps)
            into.Gap(gap);
        for (var i = 0; i < run.Summaries.Count; i++)
        {
            var summary = run.Summaries[i];
            if (i == 0)
                into.First(summary.First);
            else
                into.Pair(run.Summaries[i - 1].Last, summary.First);
            if (!double.IsNaN(summary.Rise))
                into.Spread(summary.First.Time, summary.Last.Time, summary.Rise);
        }
        into.Gaps.Sort((one, other) => one.From.CompareTo(other.From));
        return into.Gaps;
    }

    private sealed class Spreading
    {
        private readonly long _from, _width;
        private readonly double[] _slots;
        private readonly double _interval;

        public Spreading(long from, long width, double[] slots, double interval)
        {
            (_from, _width, _slots, _interval) = (from, width, slots, interval);
            Array.Fill(slots, double.NaN);
        }

        public List<CounterGap> Gaps { get; } = [];

        public void First(Sample sample)
        {
            if (sample.Start > 0 && sample.Start < sample.Time && sample.Time - sample.Start <= FirstSampleReach)
                Spread(sample.Start, sample.Time, sample.Value);
        }

        public void Pair(Sample before, Sample after)
        {
            var rise = Between(before, after);
            if (Apart(before.Time, after.Time, _interval))
                Gap(new CounterGap(before.Time, after.Time, rise));
            else
                Spread(before.Time, after.Time, rise);
        }

        public void Gap(CounterGap gap)
        {
            if (gap.To > _from && gap.From < _from + _width * _slots.Length)
                Gaps.Add(gap);
        }

        public void Spread(long begin, long end, double rise)
        {
            foreach (var (slot, share) in new SlotShares(begin, end, _from, _width, _slots.Length))
                _slots[slot] = double.IsNaN(_slots[slot]) ? rise * share : _slots[slot] + rise * share;
        }
    }
}
