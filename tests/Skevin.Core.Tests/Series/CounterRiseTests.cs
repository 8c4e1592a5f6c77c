using CsCheck;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Series;

public sealed class CounterRiseTests
{
    private static (double[] Slots, List<CounterGap> Gaps) Rise(Sample[] samples, long from, long width, int count, double interval)
    {
        var slots = new double[count];
        return (slots, CounterRise.IntoSlots(samples, from, width, slots, interval));
    }

    [Fact]
    public void A_rise_across_a_boundary_is_split_in_proportion_to_time()
    {
        // 30 within 10 s, of which 4 s lie in the first slot: 12 and 18.
        var (slots, gaps) = Rise([new(6_000, 100), new(16_000, 130)], 0, 10_000, 2, 10_000);
        slots.ShouldBe([12, 18]);
        gaps.ShouldBeEmpty();
    }

    [Fact]
    public void A_reset_counts_the_value_itself()
    {
        var (slots, _) = Rise([new(0, 100), new(10_000, 7)], 0, 10_000, 1, 10_000);
        slots.ShouldBe([7]);
    }

    [Fact]
    public void A_later_start_is_a_reset_even_where_the_value_rose()
    {
        var (slots, _) = Rise([new(0, 5, 0), new(10_000, 9, 4_000)], 0, 10_000, 1, 10_000);
        slots.ShouldBe([9]);
    }

    [Fact]
    public void The_first_sample_counts_from_a_start_at_most_five_minutes_earlier()
    {
        Rise([new(60_000, 6, 1)], 0, 60_000, 1, 15_000).Slots[0].ShouldBe(6, 0.001);
        Rise([new(600_000, 6, 1)], 540_000, 60_000, 1, 15_000).Slots[0].ShouldBe(double.NaN);
    }

    [Fact]
    public void Across_a_gap_nothing_is_spread_and_the_rise_is_noted()
    {
        Sample[] samples = [new(0, 0), new(10_000, 10), new(60_000, 90), new(70_000, 100)];
        var (slots, gaps) = Rise(samples, 0, 10_000, 7, 10_000);
        slots[0].ShouldBe(10);
        slots[1..6].ShouldAllBe(value => double.IsNaN(value));
        slots[6].ShouldBe(10);
        gaps.ShouldBe([new CounterGap(10_000, 60_000, 80)]);
    }

    [Fact]
    public void Slots_and_noted_gaps_equal_the_whole()
    {
        // The language's promise: rise over adjacent slots, with the noted gaps, adds up to the rise over the whole.
        var steps = Gen.Select(Gen.Int[1, 60_000], Gen.Double[0, 1000], Gen.Bool).Array[2, 40];
        Gen.Select(steps, Gen.Long[1_000, 30_000], Gen.Int[0, 20_000]).Sample((moves, width, offset) =>
        {
            var samples = new List<Sample> { new(offset, 50) };
            var whole = 0.0;
            foreach (var (wait, rise, reset) in moves)
            {
                var last = samples[^1];
                var fresh = reset && rise < last.Value ? new Sample(last.Time + wait, rise) : new Sample(last.Time + wait, last.Value + rise);
                whole += fresh.Value < last.Value ? fresh.Value : fresh.Value - last.Value;
                samples.Add(fresh);
            }
            var count = (int)(samples[^1].Time / width) + 1;
            var (slots, gaps) = Rise([.. samples], 0, width, count, 15_000);
            var sum = slots.Where(value => !double.IsNaN(value)).Sum() + gaps.Sum(gap => gap.Rise);
            sum.ShouldBe(whole, Math.Max(1e-6, whole * 1e-9));
        }, iter: 5_000);
    }
}
