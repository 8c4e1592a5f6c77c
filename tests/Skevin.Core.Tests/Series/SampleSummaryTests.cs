using CsCheck;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Series;

/// <summary>The reference are the samples themselves: what is answered from summaries must be what they answer.</summary>
public sealed class SampleSummaryTests
{
    private const int Seconds = 15;

    // Scrapes every 15 s with a jitter, some missing, with resets and long silences.
    private static readonly Gen<Sample[]> Samples = Gen.Select(Gen.Int[0, 1000], Gen.Select(Gen.Int[0, 40], Gen.Int[0, 400], Gen.Int[0, 100]).Array[20, 900]).Select((begin, steps) =>
    {
        var (time, value, start) = (1_795_000_000_000L + begin * 1000, 0.0, 1_794_999_900_000L);
        var samples = new List<Sample>();
        foreach (var (rise, jitter, chance) in steps)
        {
            time += Seconds * 1000 + jitter + (chance == 0 ? 1_800_000 : chance == 1 ? 60_000 : 0);
            if (chance == 2)
                (value, start) = (0, time - 5000);
            value += rise / 4.0;
            if (chance > 8)
                samples.Add(new Sample(time, value, start));
        }
        return samples.ToArray();
    });

    private static Slots SlotsOf(Sample[] samples, long width) => Slots.Over(new Window(samples[0].Time - width, samples[^1].Time), width);

    // A few samples at the edge of two hours may have another median spacing than all, and so another gap.
    private static bool Sparse(Sample[] samples) => samples.Length < 3 || samples.GroupBy(sample => SummaryRun.EndOf(sample.Time, 7_200_000)).Any(window => window.Count() < 30);

    private static void Near(double[] actual, double[] expected)
    {
        actual.Length.ShouldBe(expected.Length);
        for (var i = 0; i < actual.Length; i++)
            if (double.IsNaN(expected[i]))
                actual[i].ShouldBe(double.NaN);
            else
                actual[i].ShouldBe(expected[i], 1e-9 * Math.Max(1, Math.Abs(expected[i])));
    }

    private static SummaryRun Folded(Sample[] samples, long width) => SummaryRun.Joined(
        [.. samples.GroupBy(sample => SummaryRun.EndOf(sample.Time, 7_200_000)).Select(window => SummaryRun.Of([.. window], SummaryRun.Widths[0]) with { Interval = CollectionInterval.Of(samples) })], width);

    [Fact]
    public void A_counter_rises_by_slot_and_gap_as_its_samples_say() => Gen.Select(Samples, Gen.Int[0, 3].Select(i => new[] { 300_000L, 900_000, 3_600_000, 7_200_000 }[i])).Sample((samples, width) =>
    {
        if (Sparse(samples))
            return;
        var slots = SlotsOf(samples, width);
        var (expected, actual) = (new double[slots.Count], new double[slots.Count]);
        var gaps = CounterRise.IntoSlots(samples, slots.Start, width, expected, CollectionInterval.Of(samples));
        foreach (var level in SummaryRun.Widths.Where(level => width % level == 0))
        {
            var told = CounterRise.IntoSlots(Folded(samples, level), slots.Start, width, actual);
            Near(actual, expected);
            told.ShouldBe(gaps);
        }
    }, iter: 2000);

    [Fact]
    public void Over_a_stretch_they_tell_what_the_samples_tell() => Gen.Select(Samples, Gen.Int[0, 2].Select(i => new[] { 300_000L, 900_000, 3_600_000 }[i]), Gen.Int[1, 6]).Sample((samples, width, times) =>
    {
        if (Sparse(samples))
            return;
        foreach (var kind in Enum.GetValues<FunctionKind>().Select(kind => new Function(kind)).Where(Folding.BySummary))
            Near(Folding.Trailing(Folded(samples, 300_000), width * times, SlotsOf(samples, width), kind), Folding.Trailing(samples, width * times, SlotsOf(samples, width), kind));
    }, iter: 500);

    [Fact]
    public void Every_bit_comes_back() => Gen.Select(Samples.Array[1, 4], Gen.Bool).Sample((series, counter) =>
    {
        var runs = series.Select((samples, i) => ((long)i * 7 - 5, counter, SummaryRun.Of(samples, 300_000))).ToArray();
        var back = SummaryChunk.Decode(SummaryChunk.Encode(runs), number => number != 2);
        back.Select(one => one.Series).ShouldBe(runs.Select(one => one.Item1).Where(number => number != 2));
        foreach (var (number, _, run) in back)
        {
            var own = runs.Single(one => one.Item1 == number).Item3;
            run.Interval.ShouldBe(own.Interval);
            run.Gaps.ShouldBe(own.Gaps);
            run.Summaries.ShouldBe(own.Summaries.Select(one => counter ? one with { Sum = double.NaN, Min = double.NaN, Max = double.NaN } : one with { Rise = double.NaN }));
        }
    }, iter: 300);

    [Fact]
    public void Damaged_bytes_are_refused_not_worse()
    {
        Gen.Byte.Array[0, 80].Sample(inside =>
        {
            using var compressor = new ZstdSharp.Compressor(1);
            Refused([1, .. compressor.Wrap(inside)]);
        }, iter: 10_000);
        Gen.Select(Samples, Gen.Int[0, 2000], Gen.Byte).Sample((samples, at, with) =>
        {
            var chunk = SummaryChunk.Encode([(1, true, SummaryRun.Of(samples, 300_000))]);
            chunk[at % chunk.Length] ^= with;
            Refused(chunk);
        }, iter: 300);
    }

    private static void Refused(byte[] chunk)
    {
        try
        {
            SummaryChunk.Decode(chunk, _ => true);
        }
        catch (FormatException)
        {
            // Said so.
        }
    }
}
