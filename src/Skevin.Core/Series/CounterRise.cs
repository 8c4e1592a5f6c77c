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
        ReadOnlySpan<Sample> samples, long from, long width, Span<double> slots, double interval)
    {
        slots.Fill(double.NaN);
        var gaps = new List<CounterGap>();
        var to = from + width * slots.Length;
        for (var i = 0; i < samples.Length; i++)
        {
            var sample = samples[i];
            long begin;
            double rise;
            if (i == 0)
            {
                if (sample.Start <= 0 || sample.Start >= sample.Time || sample.Time - sample.Start > FirstSampleReach)
                    continue;
                (begin, rise) = (sample.Start, sample.Value);
            }
            else
            {
                var before = samples[i - 1];
                var reset = sample.Value < before.Value || sample.Start > before.Time;
                rise = reset ? sample.Value : sample.Value - before.Value;
                begin = before.Time;
                if (sample.Time - before.Time > GapIntervals * interval)
                {
                    if (sample.Time > from && before.Time < to)
                        gaps.Add(new CounterGap(before.Time, sample.Time, rise));
                    continue;
                }
            }
            Spread(begin, sample.Time, rise, from, width, slots);
        }
        return gaps;
    }

    private static void Spread(long begin, long end, double rise, long from, long width, Span<double> slots)
    {
        var length = end - begin;
        if (length <= 0)
            return;
        var last = Math.Min(slots.Length - 1, (end - 1 - from) / width);
        // A slot holds (start, end]; integer division rounds towards zero, so times before the window are clamped first.
        for (var slot = Math.Max(0, (begin - from) / width); slot <= last; slot++)
        {
            var start = from + slot * width;
            var overlap = Math.Min(end, start + width) - Math.Max(begin, start);
            if (overlap <= 0)
                continue;
            var part = rise * overlap / length;
            slots[(int)slot] = double.IsNaN(slots[(int)slot]) ? part : slots[(int)slot] + part;
        }
    }
}
