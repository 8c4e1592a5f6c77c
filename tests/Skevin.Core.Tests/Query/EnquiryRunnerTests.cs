using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Query;

public sealed class EnquiryRunnerTests
{
    private sealed class Fixed(params (SeriesKey Key, Sample[] Samples)[] series) : ISeriesReader
    {
        public IEnumerable<string> Metrics() => series.Select(one => one.Key.Metric).Distinct();

        public Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop) =>
            Task.FromResult<IReadOnlyList<StoredSeries>>([.. series.Select((one, i) => new StoredSeries(i, 1, one.Key)).Where(one => one.Key.Metric == metric)]);

        public Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> asked, long from, long to, CancellationToken stop) =>
            Task.FromResult<IReadOnlyList<Sample[]>>([.. asked.Select(one => series[one.Id].Samples.Where(sample => sample.Time > from && sample.Time <= to).ToArray())]);
    }

    private static SeriesKey Key(string metric, SeriesKind kind, string unit, params (string, string)[] labels) =>
        new(metric, kind, unit, Labels.From(labels.Select(pair => new KeyValuePair<string, string>(pair.Item1, pair.Item2))));

    private static Sample[] Every15(long from, int count, Func<int, double> value) =>
        [.. Enumerable.Range(0, count).Select(i => new Sample(from + i * 15_000, value(i)))];

    private static readonly Fixed Pods = new(
        (Key("container.cpu.time", SeriesKind.Counter, "s", ("k8s.namespace.name", "auction"), ("k8s.pod.name", "ledger-1"), ("k8s.deployment.name", "ledger")), Every15(0, 41, i => i * 7.5)),
        (Key("container.cpu.time", SeriesKind.Counter, "s", ("k8s.namespace.name", "auction"), ("k8s.pod.name", "ledger-2"), ("k8s.deployment.name", "ledger")), Every15(0, 41, i => i * 3)),
        (Key("container.cpu.time", SeriesKind.Counter, "s", ("k8s.namespace.name", "payout"), ("k8s.pod.name", "settle-1"), ("k8s.deployment.name", "settle")), Every15(0, 41, i => i * 1.5)),
        (Key("memory", SeriesKind.Gauge, "By", ("k8s.namespace.name", "auction")), Every15(0, 41, i => i % 2 == 0 ? 10 : 20)),
        (Key("memory", SeriesKind.Gauge, "By", ("k8s.namespace.name", "payout")), Every15(0, 41, i => 5)));

    private static Task<Answer> Ask(string text, long from = 60_000, long to = 300_000, Predicate? scope = null) =>
        EnquiryRunner.Run(Parser.Read(text), scope, new Window(from, to), new EnquiryReader(Pods, new FixedRows()), new Limits(), CancellationToken.None);

    [Fact]
    public async Task A_rate_of_processor_time_is_in_cores_and_sums_by_workload()
    {
        var answer = await Ask("container.cpu.time -> rate -> sum by workload");
        answer.Unit.ShouldBe("{core}");
        answer.Every.ShouldBe(TimeSpan.FromSeconds(15));
        answer.Series.Select(series => series.Labels["workload"]).ShouldBe(["ledger", "settle"]);
        answer.Series[0].Values.ShouldAllBe(value => Math.Abs(value - 0.7) < 1e-9);
        answer.Series[1].Values.ShouldAllBe(value => Math.Abs(value - 0.1) < 1e-9);
        answer.Steps.Select(step => step.Left).ShouldBe([3, 3, 2]);
    }

    [Fact]
    public async Task A_part_in_which_nothing_was_found_has_no_unit_to_quarrel_with()
    {
        var answer = await Ask("now: memory -> max; then: memory -> where namespace = \"nobody\" -> max; now - then");
        answer.Series.ShouldBeEmpty();
        answer.Unit.ShouldBe("By");
    }

    [Fact]
    public async Task Slots_end_on_multiples_and_points_lie_in_from_excluded_to_included()
    {
        var answer = await Ask("memory -> sum every 1m", 60_000, 300_000);
        answer.FirstEnd.ShouldBe(120_000);
        answer.Series[0].Values.Length.ShouldBe(4);
        // The slot (60, 120] holds 75, 90, 105, 120: values 20, 10, 20, 10, mean 15; with the other series' 5: 20.
        answer.Series[0].Values[0].ShouldBe(20);
    }

    [Fact]
    public async Task Under_min_and_max_a_gauges_slot_is_its_least_and_greatest()
    {
        (await Ask("memory -> where namespace = \"auction\" -> min every 1m")).Series[0].Values.ShouldAllBe(value => value == 10);
        (await Ask("memory -> where namespace = \"auction\" -> max every 1m")).Series[0].Values.ShouldAllBe(value => value == 20);
        (await Ask("memory -> where namespace = \"auction\" -> mean every 1m")).Series[0].Values.ShouldAllBe(value => value == 15);
        (await Ask("memory -> count every 1m")).Series[0].Values.ShouldAllBe(value => value == 2);
    }

    [Fact]
    public async Task The_highest_are_ranked_by_mean_over_the_window()
    {
        var answer = await Ask("container.cpu.time -> rate -> highest 2");
        answer.Series.Select(series => series.Labels["k8s.pod.name"]).ShouldBe(["ledger-1", "ledger-2"]);
        (await Ask("container.cpu.time -> rate -> lowest 1")).Series.ShouldHaveSingleItem().Labels["k8s.pod.name"].ShouldBe("settle-1");
    }

    [Fact]
    public async Task A_filter_that_leaves_nothing_says_which_part_and_the_nearest_value()
    {
        var answer = await Ask("container.cpu.time -> where namespace = \"auction\" and workload = \"ledgr\" -> rate");
        answer.Series.ShouldBeEmpty();
        var note = answer.Notes.ShouldHaveSingleItem();
        (note.Step, note.Kind, note.Cure).ShouldBe((1, "nothing left", "workload = \"ledger\""));
        note.Text.ShouldContain("ledgr");
    }

    [Fact]
    public async Task A_workload_of_another_namespace_is_found_there()
    {
        var note = (await Ask("container.cpu.time -> where namespace = \"auction\" and workload = \"settle\"")).Notes.ShouldContainItem("nothing left");
        note.Text.ShouldContain("\"payout\"");
        note.Cure.ShouldBe("where namespace = \"payout\"");
    }

    [Fact]
    public async Task A_field_nobody_has_names_those_there_are()
    {
        var note = (await Ask("container.cpu.time -> where namespce = \"auction\"")).Notes.ShouldContainItem("nothing left");
        note.Cure.ShouldBe("namespace");
    }

    [Fact]
    public async Task Summing_a_raw_counter_points_to_rate()
    {
        var error = (await Should.ThrowAsync<EnquiryException>(() => Ask("container.cpu.time -> sum by pod"))).Error;
        (error.Word, error.Column, error.Suggestion).ShouldBe(("sum", 23, "rate -> sum"));
    }

    [Fact]
    public async Task A_rate_of_a_gauge_is_an_error_with_both_types() =>
        (await Should.ThrowAsync<EnquiryException>(() => Ask("memory -> rate"))).Error.Message.ShouldContain("takes a counter, but this is a gauge");

    [Fact]
    public async Task A_misspelt_metric_gets_the_nearest() =>
        (await Should.ThrowAsync<EnquiryException>(() => Ask("container.cpu.tim"))).Error.Suggestion.ShouldBe("container.cpu.time");

    [Fact]
    public async Task A_counter_drawn_raw_is_noted() =>
        (await Ask("container.cpu.time")).Notes.ShouldContainItem("never falls").Cure.ShouldBe("rate");

    [Fact]
    public async Task The_scope_is_a_step_of_its_own()
    {
        var scope = new FieldPredicate("namespace", Comparison.Equal, [new TextValue("payout")], default);
        var answer = await Ask("container.cpu.time -> rate", scope: scope);
        answer.Steps.Select(step => (step.Left, step.Scope)).ShouldBe([(3, false), (1, true), (1, false)]);
    }

    [Fact]
    public async Task Two_widths_in_one_enquiry_are_an_error() =>
        (await Should.ThrowAsync<EnquiryException>(() => Ask("container.cpu.time -> rate every 30s -> sum every 1m"))).Error.Word.ShouldBe("every");

    [Theory]
    [InlineData(3600, 15_000, 15_000)]
    [InlineData(43_200, 15_000, 60_000)]
    [InlineData(1_209_600, 15_000, 1_800_000)]
    [InlineData(600, 1_000, 1_000)]
    public void The_width_is_the_first_that_gives_at_most_800_points(long seconds, double interval, long width) =>
        // query-language.md, "Slots": worked out by hand.
        Slots.WidthFor(new Window(0, seconds * 1000), interval).ShouldBe(width);

    [Fact]
    public async Task Too_many_samples_name_the_step_to_narrow()
    {
        var limited = await Should.ThrowAsync<LimitException>(() => EnquiryRunner.Run(Parser.Read("memory -> sum"), null, new Window(0, 600_000), new EnquiryReader(Pods, new FixedRows()), new Limits(10), CancellationToken.None));
        limited.Step.ShouldBe("memory");
    }

    [Fact]
    public async Task What_is_chosen_becomes_a_step_where_the_field_is_and_a_note_where_it_is_not()
    {
        FieldPredicate Chosen(string field, params string[] values) => new(field, Comparison.In, [.. values.Select(value => new TextValue(value))], default);
        Task<Answer> Choosing(string text, params FieldPredicate[] chosen) => EnquiryRunner.Run(Parser.Read(text), null, new Window(60_000, 300_000), new EnquiryReader(Pods, new FixedRows()), new Limits(), CancellationToken.None, choices: chosen);

        var chosen = await Choosing("container.cpu.time -> rate -> sum by pod", Chosen("pod", "ledger-2", "settle-1"), Chosen("namespace", "auction"));
        chosen.Series.Single().Labels["pod"].ShouldBe("ledger-2");
        chosen.Steps.Select(step => (step.Left, step.Scope)).ShouldBe([(3, false), (2, true), (1, true), (1, false), (1, false)]);
        // The same as where steps would give, in every part of a formula; a part whose series have no such field stands whole, and says so.
        var share = await Choosing("use: container.cpu.time -> rate -> sum; most: memory -> sum; use / most", Chosen("pod", "settle-1"));
        var written = await Ask("use: container.cpu.time -> where pod = \"settle-1\" -> rate -> sum; most: memory -> sum; use / most");
        share.Series.Single().Values.ShouldBe(written.Series.Single().Values);
        share.Notes.Single(note => note.Kind == "not chosen by").Text.ShouldBe("memory has no pod: what was chosen of it does not apply here.");
        // What leaves nothing is explained as any condition is; a where step of one's own on a field that is not there still leaves nothing.
        (await Choosing("container.cpu.time", Chosen("pod", "ledger-9"))).Notes.ShouldContain(note => note.Kind == "nothing left");
        (await Ask("memory -> where pod = \"settle-1\"")).Series.ShouldBeEmpty();
    }

    [Theory]
    [InlineData("namespace like \"auc%\"", 2)]
    [InlineData("pod matches \"-[12]$\"", 3)]
    [InlineData("not namespace = \"auction\"", 1)]
    [InlineData("namespace != \"auction\" or pod = \"ledger-2\"", 2)]
    [InlineData("namespace in (\"auction\", \"payout\") and workload exists", 3)]
    [InlineData("statefulset exists", 0)]
    public async Task Conditions_are_evaluated(string condition, int left) =>
        (await Ask("container.cpu.time -> where " + condition)).Steps[1].Left.ShouldBe(left);
}

internal static class NoteAssertions
{
    public static Note ShouldContainItem(this IReadOnlyList<Note> notes, string kind)
    {
        var found = notes.FirstOrDefault(note => note.Kind == kind);
        found.ShouldNotBeNull($"no note of kind '{kind}'");
        return found;
    }
}
