using CsCheck;
using Skevin.Core.Collection;
using Skevin.Core.Diagnosis;
using Skevin.Core.Formats.OpenMetrics;
using Skevin.Core.Logs;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Collection;

public sealed class TrimmingTests
{
    private static OpenMetricsSample Sample(string suffix, double value, params (string Key, string Value)[] labels) => new(suffix, [.. labels.Select(label => new KeyValuePair<string, string>(label.Key, label.Value))], value, null, null);

    private static Gen<string> Pick(params string[] texts) => Gen.Int[0, texts.Length - 1].Select(i => texts[i]);

    private static readonly Gen<OpenMetricsFamily> Counters = Gen.Select(Gen.Int[0, 4], Gen.Int[0, 3], Gen.Int[0, 1000]).Select((session, room, value) => (session, room, value)).Array[1, 40]
        .Select(rows => new OpenMetricsFamily("lookups", FamilyType.Counter, "", "", [.. rows.DistinctBy(row => (row.session, row.room)).Select(row => Sample("_total", row.value, ("session", "s" + row.session), ("room", "r" + row.room)))]));

    [Fact]
    public void Taking_a_label_off_adds_up_what_becomes_alike() => Counters.Sample(family =>
    {
        var left = MetricRules.Apply(new OpenMetricsReading([family], null), [new MetricRule("look*", WithoutLabels: ["session"])]).Families.Single();
        left.Samples.ShouldAllBe(sample => sample.Labels.All(label => label.Key == "room"));
        left.Samples.Select(sample => sample.Labels[0].Value).ShouldBeUnique();
        foreach (var sample in left.Samples)
            sample.Value.ShouldBe(family.Samples.Where(before => before.Labels.Any(label => label.Key == "room" && label.Value == sample.Labels[0].Value)).Sum(before => before.Value));
    });

    [Fact]
    public void Leaving_out_and_renaming_touch_nothing_else()
    {
        OpenMetricsFamily[] families = [new("a", FamilyType.Gauge, "", "", [Sample("", 1)]), new("b_one", FamilyType.Gauge, "", "", [Sample("", 2)]), new("b_two", FamilyType.Gauge, "", "", [Sample("", 3)])];
        MetricRules.Apply(new OpenMetricsReading(families, "malformed"), [new MetricRule("b_*", LeaveOut: true), new MetricRule("a", As: "c")]).ShouldSatisfyAllConditions(
            left => left.Families.Select(family => family.Name).ShouldBe(["c"]), left => left.Error.ShouldBe("malformed"));
        var untouched = new OpenMetricsReading(families, null);
        MetricRules.Apply(untouched, null).ShouldBeSameAs(untouched);
    }

    [Fact]
    public void Quantiles_of_a_sender_are_not_added_up_its_sums_and_earliest_start_are()
    {
        var family = new OpenMetricsFamily("d", FamilyType.Summary, "", "",
            [Sample("", 0.2, ("quantile", "0.95"), ("session", "1")), Sample("", 0.4, ("quantile", "0.95"), ("session", "2")), Sample("_sum", 3, ("session", "1")), Sample("_sum", 4, ("session", "2")), Sample("_created", 50, ("session", "1")), Sample("_created", 40, ("session", "2"))]);
        MetricRules.Apply(new OpenMetricsReading([family], null), [new MetricRule("d", WithoutLabels: ["session"])]).Families.Single().Samples.Select(sample => (sample.Suffix, sample.Value)).ShouldBe([("_sum", 7), ("_created", 40)]);
    }

    [Theory]
    [InlineData("*", true, null, "A rule names a metric")]
    [InlineData("a", false, null, "changes nothing")]
    [InlineData("a*", false, "b", "stands for several")]
    [InlineData("a*", true, null, null)]
    public void A_rule_that_cannot_be_meant_is_refused(string metric, bool leaveOut, string? name, string? problem)
    {
        var found = new CollectionPlan(new MetricsPlan(Rules: [new MetricRule(metric, leaveOut, As: name)])).Problems().SingleOrDefault();
        (found ?? "").ShouldContain(problem ?? "");
        (found is null).ShouldBe(problem is null);
    }

    [Fact]
    public void An_id_in_a_label_is_found_and_what_is_left_without_it()
    {
        static SeriesKey Key(string metric, params (string, string)[] labels) => new(metric, SeriesKind.Counter, "1", Labels.From(labels.Select(label => new KeyValuePair<string, string>(label.Item1, label.Item2))));
        var series = Enumerable.Range(0, 120).Select(i => Key("lookups", ("k8s.pod.name", "p" + i % 2), ("session", "s" + i), ("room", "r" + i % 3)))
            .Concat(Enumerable.Range(0, 60).Select(i => Key("requests", ("k8s.pod.name", "p" + i), ("status", i % 2 == 0 ? "200" : "503")))).Select(key => (key, 0.2, true)).ToArray();
        var costs = Trimming.Metrics(series, new[] { ("requests", "sheet A") }.ToLookup(use => use.Item1, use => use.Item2), new Dictionary<string, DateTimeOffset>());
        costs.Select(cost => (cost.Metric, cost.Series, cost.Label, cost.Values, cost.SeriesWithout, cost.Explodes)).ShouldBe([("lookups", 120, "session", 120, 6, true), ("requests", 60, null, 0, 60, false)]);
        Trimming.Metrics(series.Select(one => (one.key, one.Item2, false)), Array.Empty<string>().ToLookup(name => name), new Dictionary<string, DateTimeOffset>()).ShouldAllBe(cost => cost.Label == null);
        costs[0].SamplesPerSecond.ShouldBe(24, 1e-9);
        costs[1].UsedBy.ShouldBe(["sheet A"]);
        LabelExplosion.Find(costs).Single().Short.ShouldBe("label session of lookups explodes");
    }

    [Fact]
    public void A_flood_is_ten_times_the_usual_and_much_and_nothing_is_said_without_a_past()
    {
        LineRate[] logs = [new("n/a/c", 6000, 20), new("n/b/c", 500, 2), new("n/c/c", 6000, 5000), new("n/d/c", 6000, double.NaN)];
        LogFlood.Find(logs).Select(trouble => trouble.Short).ShouldBe(["n/a/c floods its log"]);
    }

    [Fact]
    public void A_clock_is_apart_from_five_seconds_on_and_says_which_way() =>
        ClockApart.Find(new Dictionary<string, TimeSpan> { ["north-1"] = TimeSpan.FromSeconds(-40), ["north-2"] = TimeSpan.FromSeconds(4.9), ["north-3"] = TimeSpan.FromSeconds(7) }).Select(trouble => trouble.Short)
            .ShouldBe(["the clock of north-1 is 40 s behind", "the clock of north-3 is 7 s ahead"]);

    [Fact]
    public void Every_line_is_of_the_kind_it_was_counted_under() => Gen.Select(Pick("sold lot", "no answer {from} bank", "[warn] retry (2)", "a.b*c+ $5"), Gen.Int[0, 9999], Pick("", " ", "\tand more"), Pick("", "\n  at line 2"))
        .Select((begin, number, middle, end) => $"{begin}{middle} A-{number} took={number}ms{end}").Array[1, 30].Sample(lines =>
        {
            var kinds = new LineKinds();
            foreach (var line in lines)
                kinds.Add(line, 0, 1);
            var matchers = kinds.Finish().Select(kind => LineKinds.Matcher(kind.Text)).ToArray();
            lines.ShouldAllBe(line => matchers.Any(matches => matches(line)));
        }, iter: 50);

    [Fact]
    public void A_line_of_another_kind_is_not_of_it()
    {
        var matches = LineKinds.Matcher("sold lot {} for {}");
        matches("sold lot A-1 for 3").ShouldBeTrue();
        matches("  sold  lot A-1 for 3 ").ShouldBeTrue();
        matches("unsold lot A-1 for 3").ShouldBeFalse();
        matches("sold lot A-1").ShouldBeFalse();
    }
}
