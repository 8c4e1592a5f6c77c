using CsCheck;
using MathNet.Numerics.Distributions;
using MathNet.Numerics.Statistics;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Baselines;
using Skevin.Core.Alarms.ReadyMade;
using Skevin.Core.Logs;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Tests.Query;

namespace Skevin.Core.Tests.Alarms;

/// <summary>What is usual in the same hour of the week. Reference for the figures: MathNet.Numerics.</summary>
public sealed class SeasonalBaselineTests
{
    private const long Minute = 60_000;
    private const long Hour = 60 * Minute;
    private const long Width = 5 * Minute;
    private static readonly Labels Ledger = Labels.From([new("k8s.pod.name", "ledger-0")]);

    // A Monday, 00:00 UTC.
    private static readonly long Monday = new DateTimeOffset(2026, 5, 11, 0, 0, 0, TimeSpan.Zero).ToUnixTimeMilliseconds();

    private static Answer Of(long from, long to, Func<long, double> value) => new("1", TimeSpan.FromMilliseconds(Width), from + Width,
        [new AnswerSeries(Ledger, [.. Enumerable.Range(1, (int)((to - from) / Width)).Select(i => value(from + i * Width))])], [], []);

    private static SeasonalBaseline Baseline(long from, long to, int weeks, Func<long, double> value, UsualDocument? usual = null) =>
        new([.. Enumerable.Range(1, weeks).Select(week => Of(from - week * SeasonalBaseline.Week, to - week * SeasonalBaseline.Week, value))], usual ?? new UsualDocument(Weeks: weeks));

    [Fact]
    public void Median_and_spread_are_those_of_MathNet() => Gen.Double[-1000, 1000].Array[1, 60].Sample(values =>
    {
        var known = SeasonalBaseline.Of(values)!;
        var middle = values.Median();
        known.Middle.ShouldBe(middle, 1e-9);
        var distances = values.Select(value => Math.Abs(value - middle)).ToArray();
        // The constant that makes it a standard deviation of a normal distribution.
        var spread = distances.Median() > 0 ? distances.Median() / Normal.InvCDF(0, 1, 0.75) : distances.Mean() * Math.Sqrt(Math.PI / 2);
        known.Spread.ShouldBe(Math.Max(spread, Math.Max(Math.Abs(middle) * 0.02, double.Epsilon)), 1e-6);
    });

    [Fact]
    public void The_spread_of_normal_values_is_their_standard_deviation()
    {
        var values = new double[20_000];
        new Normal(50, 4, new Random(1)).Samples(values);
        var known = SeasonalBaseline.Of(values)!;
        known.Middle.ShouldBe(50, 0.2);
        known.Spread.ShouldBe(4, 0.15);
        // A tenth of wild values hardly moves it, as the mean's would be.
        SeasonalBaseline.Of(values.Select((value, i) => i % 10 == 0 ? value * 100 : value))!.Spread.ShouldBe(4, 0.8);
    }

    [Fact]
    public void Each_slot_is_held_against_its_own_hour_of_the_week()
    {
        // The value tells its hour of the week and, a little, its week and slot.
        double Value(long end) => ((end - Width - Monday) / Hour % 168 + 168) % 168 * 100 + end / Width % 12;
        var (from, to) = (Monday, Monday + SeasonalBaseline.Week);
        var baseline = Baseline(from, to, 4, Value);
        for (var hour = 0; hour < 168; hour++)
            foreach (var slot in new[] { 1, 7, 12 })
            {
                var known = baseline.At(Ledger, Monday + hour * Hour + slot * Width, Width)!;
                known.Values.ShouldBe(4 * 12);
                var all = Enumerable.Range(1, 4).SelectMany(week => Enumerable.Range(1, 12).Select(i => Value(Monday + hour * Hour - week * SeasonalBaseline.Week + i * Width))).ToArray();
                known.Middle.ShouldBe(all.Median());
            }
    }

    [Fact]
    public void Too_little_is_not_judged()
    {
        var (from, to) = (Monday, Monday + Hour);
        Baseline(from, to, 4, end => end >= Monday - SeasonalBaseline.Week ? 5 : double.NaN).BoundsAt(Ledger, Monday + Width, Width).ShouldBeNull("one week alone");
        Baseline(from, to, 4, end => end >= Monday - 2 * SeasonalBaseline.Week ? 5 : double.NaN).BoundsAt(Ledger, Monday + Width, Width).ShouldNotBeNull();
        Baseline(from, to, 4, _ => 5).BoundsAt(Labels.From([new("k8s.pod.name", "other")]), Monday + Width, Width).ShouldBeNull("a series nobody has seen");
    }

    [Fact]
    public void Sides_and_spreads_make_the_bounds()
    {
        var known = new UsualValue(10, 2, 48);
        SeasonalBaseline.BoundsOf(known, new UsualDocument(UsualSide.High, 3)).ShouldBe(new Bounds(16, null, 16, null));
        SeasonalBaseline.BoundsOf(known, new UsualDocument(UsualSide.Low, 3)).ShouldBe(new Bounds(null, 4, null, 4));
        SeasonalBaseline.BoundsOf(known, new UsualDocument(UsualSide.Either, 3)).ShouldBe(new Bounds(16, 4, 16, 4));
    }

    [Fact]
    public void A_busy_hour_is_usual_and_the_same_load_at_night_is_not()
    {
        // Auctions are held from 6 to 12; the same 1,000 requests at 2 in the night are seen.
        double Usual(long end) => ((end - Width) / Hour % 24 is >= 6 and < 12 ? 1000 : 20) + end / Width % 7;
        var (from, to) = (Monday, Monday + 24 * Hour);
        var rule = AlarmRule.Read(new RuleDocument("r", "requests -> rate -> sum", Usual: new UsualDocument(UsualSide.High), Hold: "10m"), out var mistakes) ?? throw new InvalidOperationException(mistakes[0].Message);
        rule.Every.ShouldBe(TimeSpan.FromMinutes(5));
        var baseline = Baseline(from, to, 4, Usual);
        var answer = Of(from, to, end => end > Monday + 2 * Hour && end <= Monday + 3 * Hour ? 1000 : Usual(end));
        var raised = Replay.Over(rule, (labels, end) => baseline.BoundsAt(labels, end, Width), answer).ShouldHaveSingleItem();
        (raised.From, raised.To).ShouldBe((Monday + 2 * Hour + 2 * Width, Monday + 3 * Hour + Width));
        // The table of other spreads holds the rule as it is.
        var table = Variants.OfUsual(rule, rule.Document.Usual!, baseline, answer, [], TimeSpan.Zero);
        table.Single(row => row.Bound == 5 && row.Hold == rule.Hold).Raised.ShouldBe(1);
    }

    [Theory]
    [InlineData(0.5, 4, null, "usual")]
    [InlineData(5.0, 1, null, "usual")]
    [InlineData(5.0, 4, "1m", "every")]
    [InlineData(5.0, 4, "1h", "every")]
    public void Mistakes_are_told(double spreads, int weeks, string? every, string field)
    {
        AlarmRule.Read(new RuleDocument("r", "a -> max", Every: every, Usual: new UsualDocument(UsualSide.High, spreads, weeks)), out var mistakes).ShouldBeNull();
        mistakes.Single().Field.ShouldBe(field);
    }

    [Theory]
    [InlineData("spans -> where kind = \"server\" -> count by service, name every 5m", true)]
    [InlineData("logs -> count by kind every 5m", true)]
    [InlineData("logs -> count by kind every 5m -> highest 5", false)]
    [InlineData("spans -> p95 duration by service every 5m", false)]
    [InlineData("container.cpu.time -> rate -> sum", false)]
    [InlineData("a: logs -> count every 5m; b: spans -> count every 5m; a / b", false)]
    public void Counts_are_known_by_their_enquiry(string text, bool counts) => SeasonalBaseline.Counts(Skevin.Core.Query.Language.Parser.Read(text)).ShouldBe(counts);

    [Fact]
    public void What_never_was_there_is_unusual_once_there_is_enough_of_it()
    {
        var weeks = Enumerable.Range(1, 2).Select(week => Of(Monday - week * SeasonalBaseline.Week, Monday + Hour - week * SeasonalBaseline.Week, _ => 12)).ToArray();
        var fresh = Labels.From([new("k8s.pod.name", "settle-0")]);
        var usual = new UsualDocument(UsualSide.High, 8, 2);
        new SeasonalBaseline(weeks, usual).BoundsAt(fresh, Monday + Width, Width).ShouldBeNull("of a gauge nothing is known");
        new SeasonalBaseline(weeks, usual, counted: true).BoundsAt(fresh, Monday + Width, Width)!.Above.ShouldBe(8);
        // Chance alone: √12 spreads, where the counts themselves did not vary.
        new SeasonalBaseline(weeks, usual, counted: true).BoundsAt(Ledger, Monday + Width, Width)!.Above!.Value.ShouldBe(12 + 8 * Math.Sqrt(12), 1e-9);
    }

    [Theory]
    [InlineData(0.3)]
    [InlineData(4)]
    [InlineData(150)]
    [InlineData(5000)]
    public void Chance_alone_is_not_unusual_and_the_bound_is_not_far(double mean)
    {
        // Counts of what happens at random are Poisson's; those are drawn by MathNet.
        var chance = new Poisson(mean, new Random(7));
        var raised = 0;
        for (var round = 0; round < 400; round++)
        {
            var weeks = Enumerable.Range(1, 2).Select(week => Of(Monday - week * SeasonalBaseline.Week, Monday + Hour - week * SeasonalBaseline.Week, _ => chance.Sample())).ToArray();
            var above = new SeasonalBaseline(weeks, new UsualDocument(UsualSide.High, 8, 2), counted: true).BoundsAt(Ledger, Monday + Width, Width)!.Above!.Value;
            raised += Enumerable.Range(0, 12).Count(_ => chance.Sample() > above);
            above.ShouldBeLessThan(mean + 15 * Math.Sqrt(mean) + 14);
        }
        raised.ShouldBe(0);
    }

    [Fact]
    public async Task A_kind_of_line_nobody_wrote_a_rule_for_is_named_in_the_slots_in_which_it_repeats()
    {
        var pod = Labels.From([new("k8s.namespace.name", "payout"), new("k8s.deployment.name", "settle")]);
        IEnumerable<IRow> Of(long from, Func<int, int> taken, Func<int, int> refused) => Enumerable.Range(0, 12).SelectMany(slot =>
            Enumerable.Range(0, taken(slot)).Select(i => $"payment {i} of lot A-{slot * 7 + i} taken").Concat(Enumerable.Range(0, refused(slot)).Select(i => $"payment {i} refused by the bank"))
                .Select((text, i) => (IRow)new LogLine((from + slot * Width + 1000 + i) * 1_000_000, LogLevel.Info, text, pod, Labels.From([]), default, 0)));
        var rule = ReadyMadeRules.All.Single(one => one.Runbook == "repetition/lines").Document;
        var enquiry = Skevin.Core.Query.Language.Parser.Read(rule.When);
        // Payments come in waves, as they did in the weeks before; refusals only now, in four slots.
        static int Wave(int slot) => 40 + slot % 3 * 4;
        IRow[] rows = [.. Of(Monday - 2 * SeasonalBaseline.Week, Wave, _ => 0), .. Of(Monday - SeasonalBaseline.Week, Wave, _ => 1), .. Of(Monday, Wave, slot => slot is >= 4 and < 8 ? 30 : 1)];
        Task<Answer> Ask(long week) => EnquiryRunner.Run(enquiry, null, new Window(Monday - week * SeasonalBaseline.Week, Monday + Hour - week * SeasonalBaseline.Week), new EnquiryReader(new NoSeries(), new FixedRows((RowKind.Logs, rows))), new Limits(), TestContext.Current.CancellationToken);
        var baseline = new SeasonalBaseline([await Ask(1), await Ask(2)], rule.Usual!, SeasonalBaseline.Counts(enquiry));
        var now = await Ask(0);
        var unusual = now.Series.SelectMany(series => series.Values.Select((value, i) => (Kind: series.Labels["kind"], Slot: i, value, baseline.BoundsAt(series.Labels, now.FirstEnd + i * Width, Width)!.Above))).Where(one => one.value > one.Above).ToArray();
        unusual.Select(one => (one.Kind, one.Slot)).ShouldBe([.. Enumerable.Range(4, 4).Select(slot => ((string?)"payment {} refused by the bank", slot))]);
    }
}
