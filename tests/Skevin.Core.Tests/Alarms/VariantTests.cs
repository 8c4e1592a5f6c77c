using CsCheck;
using Skevin.Core.Alarms;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Alarms;

public sealed class VariantTests
{
    private const long Minute = 60_000;
    private static readonly DateTimeOffset Begin = new(2026, 11, 12, 0, 0, 0, TimeSpan.Zero);

    private static Answer History(params double[][] series) => new("s", TimeSpan.FromMinutes(1), Begin.ToUnixTimeMilliseconds() + Minute, [.. series.Select((values, i) => new AnswerSeries(Labels.From([new("pod", "p" + i)]), values))], [], []);

    private static (AlarmRule Rule, Bounds Bounds) Above(string bound, string hold = "0", string? clear = null)
    {
        var rule = AlarmRule.Read(new RuleDocument("r", "spans -> p95 duration every 1m", Above: bound, Hold: hold, Clear: clear is null ? null : new ClearDocument(Below: clear)), out var mistakes) ?? throw new InvalidOperationException(mistakes[0].Message);
        return (rule, rule.BoundsIn("s", out _)!);
    }

    private static Incident At(int fromMinute, int toMinute, string title = "i") => new(1, title, Begin.AddMinutes(fromMinute), Begin.AddMinutes(toMinute));

    // Two weeks of minutes, steady but for what is put in.
    private static double[] Weeks(params (int From, int Minutes, double Value)[] bad)
    {
        var values = Enumerable.Range(0, 14 * 1440).Select(i => 0.2 + i % 7 * 0.001).ToArray();
        foreach (var (from, minutes, value) in bad)
            Array.Fill(values, value, from, minutes);
        return values;
    }

    [Fact]
    public void Each_variant_is_what_the_rule_with_that_bound_and_hold_replays_as() =>
        Gen.Select(Gen.Double[0, 2].Array[200], Gen.Int[0, 3]).Sample((values, pick) =>
        {
            var (rule, bounds) = Above("1s", new[] { "0", "1m", "5m", "3m" }[pick]);
            foreach (var variant in Variants.Table(rule, bounds, History(values), [At(50, 60)], TimeSpan.Zero))
            {
                var (own, ownBounds) = Above(variant.Bound.ToString("R", System.Globalization.CultureInfo.InvariantCulture), variant.Hold == TimeSpan.Zero ? "0" : $"{variant.Hold.TotalSeconds}s");
                var replayed = Replay.Over(own, ownBounds, History(values));
                variant.Raised.ShouldBe(replayed.Count);
                variant.Briefly.ShouldBe(Replay.Briefly(replayed));
                variant.Missed.Count.ShouldBe(Variants.Missed(replayed, [At(50, 60)]).Count);
            }
        }, iter: 50);

    [Fact]
    public void The_table_holds_the_rule_as_it_is_and_a_wider_bound_is_raised_no_longer()
    {
        var (rule, bounds) = Above("1s", "3m", clear: "800ms");
        var table = Variants.Table(rule, bounds, History(Weeks((1000, 30, 1.2), (9000, 2, 5))), [At(1000, 1030, "slow"), At(9000, 9002, "burst")], TimeSpan.Zero);
        table.Select(variant => variant.Bound).Distinct().ShouldBe([0.5, 0.75, 1, 1.5, 2]);
        var own = table.Single(variant => variant.Bound == 1 && variant.Hold == TimeSpan.FromMinutes(3));
        (own.Raised, own.Missed).ShouldSatisfyAllConditions(one => one.Raised.ShouldBe(1), one => one.Missed.ShouldBe(["burst"]));
        table.Single(variant => variant.Bound == 1 && variant.Hold == TimeSpan.Zero).Missed.ShouldBeEmpty();
        table.Single(variant => variant.Bound == 2 && variant.Hold == TimeSpan.Zero).Missed.ShouldBe(["slow"]);
    }

    [Fact]
    public void An_incident_is_seen_a_quarter_of_an_hour_ahead_and_until_its_end()
    {
        RaisedStretch Raised(int from, int? to) => new(Labels.None, Begin.AddMinutes(from).ToUnixTimeMilliseconds(), to is { } end ? Begin.AddMinutes(end).ToUnixTimeMilliseconds() : null, 1);
        Variants.Missed([Raised(80, 85)], [At(100, 110)]).ShouldBeEmpty();
        Variants.Missed([Raised(80, 84)], [At(100, 110)]).ShouldBe(["i"]);
        Variants.Missed([Raised(110, 120)], [At(100, 110)]).ShouldBeEmpty();
        Variants.Missed([Raised(111, 120)], [At(100, 110)]).ShouldBe(["i"]);
        Variants.Missed([Raised(10, null)], [At(100, 110)]).ShouldBeEmpty();
    }

    [Fact]
    public void What_is_suggested_sees_every_incident_and_seldom_speaks_besides()
    {
        var (rule, bounds) = Above("10s");
        // Noise for a minute each hour, two incidents that are higher and last.
        var values = Weeks([.. Enumerable.Range(0, 14 * 24).Select(hour => (hour * 60 + 7, 1, 0.9)), (3000, 40, 2.2), (12_000, 25, 1.4)]);
        var suggested = Variants.Suggest(rule, bounds, History(values), [At(3000, 3040), At(12_000, 12_025)], TimeSpan.Zero)!;
        var (own, ownBounds) = Above($"{suggested.Bound.ToString(System.Globalization.CultureInfo.InvariantCulture)}s", suggested.Hold == TimeSpan.Zero ? "0" : $"{suggested.Hold.TotalSeconds}s");
        var raised = Replay.Over(own, ownBounds, History(values));
        Variants.Missed(raised, [At(3000, 3040), At(12_000, 12_025)]).ShouldBeEmpty();
        (raised.Count - 2).ShouldBeLessThanOrEqualTo(4);
        suggested.Why.ShouldContain("each of the 2 incidents");
    }

    [Fact]
    public void Too_little_history_suggests_nothing() => Variants.Suggest(Above("1s").Rule, Above("1s").Bounds, History([.. Enumerable.Repeat(0.3, 99)]), [], TimeSpan.Zero).ShouldBeNull();

    [Theory]
    [InlineData(21, 59, false)]
    [InlineData(22, 0, true)]
    [InlineData(5, 59, true)]
    [InlineData(6, 0, false)]
    public void Night_is_from_ten_to_six_in_the_readers_zone(int hour, int minute, bool night) =>
        Variants.IsNight(new DateTimeOffset(2026, 11, 12, hour, minute, 0, TimeSpan.FromHours(2)).ToUnixTimeMilliseconds(), TimeSpan.FromHours(2)).ShouldBe(night);

    [Fact]
    public void Thinned_history_keeps_what_is_nearest_to_being_raised() => Gen.Select(Gen.Double[-5, 5].Array[1, 5000], Gen.Int[1, 900]).Sample((values, most) =>
    {
        var thin = Replay.Thinned(History(values), most, above: true);
        thin.Series[0].Values.Length.ShouldBeLessThanOrEqualTo(most);
        // Slots that do not fill a wider one at the end are left out.
        var together = (int)(thin.Every / TimeSpan.FromMinutes(1));
        thin.Series[0].Values.ShouldBe(values.Chunk(together).Where(some => some.Length == together).Select(some => some.Max()));
        thin.FirstEnd.ShouldBe(Begin.ToUnixTimeMilliseconds() + together * Minute);
    });
}
