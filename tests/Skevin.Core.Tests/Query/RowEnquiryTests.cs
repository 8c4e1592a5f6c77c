using System.Net;
using CsCheck;
using MathNet.Numerics.Statistics;
using Skevin.Core.Logs;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;

namespace Skevin.Core.Tests.Query;

public sealed class RowEnquiryTests
{
    private static Labels Of(params (string, string)[] pairs) => Labels.From(pairs.Select(pair => new KeyValuePair<string, string>(pair.Item1, pair.Item2)));

    private static LogLine Line(long second, LogLevel level, string text, string ns = "auction") =>
        new(second * 1_000_000_000, level, text, Of(("k8s.namespace.name", ns), ("k8s.deployment.name", ns == "auction" ? "ledger" : "settle")), Of(("lot", "A-" + second)), default, 0);

    private static Span Server(long second, string service, double seconds, bool failed = false, double weight = 1, ulong trace = 1) => new(
        new TraceId(trace, trace), (ulong)second + 1, 0, "POST /bids", SpanKind.Server, second * 1_000_000_000, (long)(seconds * 1e9), failed ? SpanStatus.Error : SpanStatus.Unset, "", weight,
        Of(("service.name", service), ("k8s.namespace.name", "auction")), Of(("http.response.status_code", failed ? "503" : "200")), []);

    private static FlowRow Flow(long minute, string source, string destination, long flows, byte status = 64) => new(
        new FlowMinute(new FlowKey(minute * 60_000, "n1", FlowDirection.Egress, IPAddress.Parse("192.0.2.1"), IPAddress.Parse("2001:db8:1::5"), 8080, 6, status, "GET", "/x", ""), flows, flows * 6, flows * 500, 0x1b, 0),
        new FlowEnd(source, "coldstore", source + "-1", "192.0.2.1"), new FlowEnd(destination, "platform", destination + "-1", "2001:db8:1::5"), "c");

    private static readonly FixedRows Store = new(
        (RowKind.Logs,
        [
            Line(61, LogLevel.Info, "bid on lot A-61 done"), Line(70, LogLevel.Error, "write refused: no answer from bank within 3 s"), Line(119, LogLevel.Warn, "slow write of lot"),
            Line(130, LogLevel.Info, "settlement done", "payout"), Line(185, LogLevel.Error, "Refused again"),
        ]),
        (RowKind.Spans, [Server(61, "gate", 0.1), Server(62, "gate", 0.3), Server(63, "ledger", 2, failed: true), Server(121, "gate", 0.2), Server(122, "ledger", 0.1, weight: 4, trace: 2)]),
        (RowKind.Flows, [Flow(2, "door-watch", "queue", 40), Flow(2, "door-watch", "queue", 3, 129), Flow(3, "room-sensors", "queue", 10)]));

    private static Task<Answer> Ask(string text, long from = 60, long to = 240, FixedRows? rows = null, Predicate? scope = null) =>
        EnquiryRunner.Run(Parser.Read(text), scope, new Window(from * 1000, to * 1000), new EnquiryReader(new NoSeries(), rows ?? Store), new Limits(), CancellationToken.None);

    [Fact]
    public async Task Lines_come_newest_first_and_each_step_says_how_many_are_left()
    {
        var answer = await Ask("logs -> where namespace = \"auction\" -> where level in (\"warn\", \"error\")");
        answer.Steps.Select(step => step.Left).ShouldBe([5, 4, 3]);
        answer.Rows!.View.ShouldBe("logs");
        answer.Rows.Rows.Select(row => row[5]).ShouldBe(["Refused again", "slow write of lot", "write refused: no answer from bank within 3 s"]);
    }

    [Fact]
    public async Task A_slot_without_lines_is_zero_where_logs_were_arriving_and_empty_where_not()
    {
        Store.Away.Add(3);
        try
        {
            var answer = await Ask("logs -> where level = \"error\" -> count every 1m");
            answer.Unit.ShouldBe("{line}");
            // Slots (60,120], (120,180], (180,240]: one error, none, one; minute 3, (180,240], was away but holds a line.
            answer.Series.ShouldHaveSingleItem().Values.ShouldBe([1, 0, 1]);
            (await Ask("logs -> where level = \"fatal\" -> count every 1m")).Series.ShouldHaveSingleItem().Values.ShouldBe([0, 0, double.NaN]);
        }
        finally
        {
            Store.Away.Clear();
        }
    }

    [Theory]
    [InlineData("text says \"no answer\"", 1)]
    [InlineData("text says \"NO ANSWER FROM\"", 1)]
    [InlineData("text says \"answ\"", 0)]
    [InlineData("text says \"refused\"", 2)]
    [InlineData("text like \"%lot%\"", 2)]
    [InlineData("text matches \"lot( A-6[0-9])?\"", 2)]
    [InlineData("lot = \"A-70\" or workload = \"settle\"", 2)]
    [InlineData("not level exists", 0)]
    [InlineData("level != \"info\" and not text says \"slow\"", 2)]
    [InlineData("time > 119500", 2)]
    public async Task Every_comparison_works_on_lines(string condition, int left) => (await Ask("logs -> where " + condition)).Steps[1].Left.ShouldBe(left);

    [Theory]
    [InlineData("duration >= 300ms", 2)]
    [InlineData("duration < 150ms", 2)]
    [InlineData("status = \"error\" and http.response.status_code = 503", 1)]
    [InlineData("http.response.status_code < 300", 4)]
    public async Task Numbers_compare_in_their_unit(string condition, int left) => (await Ask("spans -> where " + condition)).Steps[1].Left.ShouldBe(left);

    [Theory]
    [InlineData("source.address inside 192.0.2.0/24", 3)]
    [InlineData("destination.address inside 2001:db8::/32", 3)]
    [InlineData("destination.address inside 192.0.2.0/24", 0)]
    [InlineData("namespace = \"platform\"", 3)]
    [InlineData("namespace = \"coldstore\"", 3)]
    [InlineData("namespace != \"coldstore\"", 0)]
    [InlineData("outcome = \"dropped\"", 1)]
    [InlineData("flows > 20", 1)]
    public async Task A_flow_has_two_ends_and_a_namespace_means_either(string condition, int left) => (await Ask("flows -> where " + condition)).Steps[1].Left.ShouldBe(left);

    [Fact]
    public async Task A_quantity_of_another_dimension_shows_the_likely_spelling()
    {
        var wrong = (await Should.ThrowAsync<EnquiryException>(() => Ask("spans -> where duration > 400MiB"))).Error;
        wrong.Message.ShouldContain("duration is in s");
        wrong.Suggestion.ShouldBe("duration > 400ms");
    }

    [Fact]
    public async Task Spans_count_by_their_weight_and_the_answer_says_so()
    {
        var answer = await Ask("spans -> count by service every 1m");
        answer.Series.Select(series => (series.Labels["service"], series.Values[0], series.Values[1])).ShouldBe([("gate", 2, 1), ("ledger", 1, 4)]);
        answer.Notes.ShouldContain(note => note.Kind == "weighted");
        (await Ask("spans -> p50 duration every 3m", 0, 180)).Series[0].Values[0].ShouldBe(new[] { 0.1, 0.3, 2, 0.2, 0.1, 0.1, 0.1, 0.1 }.QuantileCustom(0.5, QuantileDefinition.R7), 1e-12);
    }

    [Fact]
    public async Task A_formula_joins_parts_whose_shared_labels_are_equal()
    {
        // query-language.md, second example, by service.
        var answer = await Ask("""
            errors: spans -> where status = "error" -> count by service every 1m
            all: spans -> count by service every 1m
            errors / all -> as percent
            """);
        answer.Unit.ShouldBe("%");
        answer.Series.ShouldHaveSingleItem().Labels["service"].ShouldBe("ledger");
        answer.Series[0].Values.ShouldBe([100, 0, double.NaN]);
        answer.Steps[0].Text.ShouldBe("errors: spans");
        answer.Notes.ShouldContain(note => note.Kind == "divided by zero");
        var spread = await Ask("by: spans -> count by service every 1m\nwhole: spans -> count every 1m\nby / whole");
        spread.Unit.ShouldBe("1");
        spread.Series.Select(series => series.Values[0]).ShouldBe([2.0 / 3, 1.0 / 3]);
    }

    [Fact]
    public async Task Different_units_are_not_added()
    {
        var wrong = (await Should.ThrowAsync<EnquiryException>(() => Ask("a: spans -> count every 1m\nb: spans -> mean duration every 1m\na + b"))).Error;
        wrong.Message.ShouldContain("{span} and s cannot be added");
        (wrong.Line, wrong.Column).ShouldBe((3, 3));
        (await Ask("b: spans -> mean duration every 1m\nb * 2 + 1")).Unit.ShouldBe("s");
    }

    [Fact]
    public async Task A_misspelt_value_and_a_misspelt_word_are_explained_from_what_is_there()
    {
        var value = (await Ask("logs -> where workload = \"ledgr\"")).Notes.Single(note => note.Kind == "nothing left");
        (value.Step, value.Cure).ShouldBe((1, "workload = \"ledger\""));
        var word = (await Ask("logs -> where namespace = \"auction\" -> where text says \"refusd\"")).Notes.Single(note => note.Kind == "nothing left");
        (word.Step, word.Cure).ShouldBe((2, "text says \"refused\""));
        (await Ask("logs -> where text says \"bank answer\"")).Notes.Single(note => note.Kind == "nothing left").Text.ShouldContain("not one behind the other");
    }

    [Fact]
    public async Task Steps_of_rows_show_order_and_keep()
    {
        var answer = await Ask("spans -> order duration down -> first 2 -> show service, duration");
        answer.Rows!.Columns.ShouldBe([new("service", ""), new("duration", "s")]);
        answer.Rows.Rows.Select(row => row[1]).ShouldBe([2.0, 0.3]);
        (await Ask("spans -> first 3 -> count every 4m")).Series[0].Values[0].ShouldBe(6);
    }

    [Fact]
    public async Task Traces_are_whole_even_where_one_span_was_asked_for()
    {
        var answer = await Ask("spans -> where status = \"error\" -> traces");
        answer.Rows!.View.ShouldBe("traces");
        var row = answer.Rows.Rows.ShouldHaveSingleItem();
        row[answer.Rows.Columns.ToList().FindIndex(column => column.Name == "spans")].ShouldBe(4.0);
    }

    [Fact]
    public async Task Flows_become_a_graph_of_names_or_of_addresses()
    {
        var rows = (await Ask("flows -> graph")).Rows!;
        object? Get(object?[] row, string name) => row[rows.Columns.ToList().FindIndex(column => column.Name == name)];
        rows.Rows.Select(row => (Get(row, "source"), Get(row, "destination"), (double)Get(row, "rate")! * 180, (double)Get(row, "dropped")! * 180, Get(row, "reason")))
            .ShouldBe([("door-watch", "queue", 43.0, 3.0, "denied by policy"), ("room-sensors", "queue", 10.0, 0.0, null)]);
        (await Ask("flows -> graph addresses")).Rows!.Rows.ShouldHaveSingleItem()[0].ShouldBe("192.0.2.1");
        (await Ask("flows -> sum bytes every 1m")).Series[0].Values.ShouldBe([21_500, 5000, 0]);
    }

    [Theory]
    [InlineData("logs -> rate", "'rate' takes series, but these are rows.", "count")]
    [InlineData("logs -> traces", "'traces' takes spans.", null)]
    [InlineData("logs -> count -> first 3", "'first' takes rows, but these are series.", "highest 5")]
    [InlineData("logs -> count except pod", "Rows are grouped with 'by'; 'except' takes series.", "by")]
    public async Task A_step_that_does_not_fit_says_which_was_probably_meant(string text, string message, string? suggestion)
    {
        var wrong = (await Should.ThrowAsync<EnquiryException>(() => Ask(text))).Error;
        (wrong.Message, wrong.Suggestion).ShouldBe((message, suggestion));
    }

    [Fact]
    public async Task The_pages_scope_is_a_step_of_its_own_in_every_part()
    {
        var scope = new FieldPredicate("namespace", Comparison.Equal, [new TextValue("payout")], default);
        var answer = await Ask("logs -> count every 3m", 0, 180, scope: scope);
        answer.Steps.Select(step => (step.Left, step.Scope)).ShouldBe([(4, false), (1, true), (1, false)]);
        answer.Series[0].Values.ShouldBe([1]);
    }

    [Fact]
    public void Counting_agrees_with_a_naive_count() => Gen.Select(Gen.Long[1, 600].Array[0, 60], Gen.OneOf(Gen.Const(10L), Gen.Const(30L), Gen.Const(60L)), Gen.Long[0, 100]).Sample((seconds, width, from) =>
    {
        var rows = new FixedRows((RowKind.Logs, [.. seconds.Select(second => (IRow)Line(second, second % 3 == 0 ? LogLevel.Error : LogLevel.Info, "x"))]));
        var answer = Ask($"logs -> count by level every {width}s", from, 600, rows).GetAwaiter().GetResult();
        foreach (var series in answer.Series)
            for (var i = 0; i < series.Values.Length; i++)
            {
                var end = answer.FirstEnd / 1000 + i * width;
                series.Values[i].ShouldBe(seconds.Count(second => second > end - width && second <= end && (second % 3 == 0) == (series.Labels["level"] == "error")));
            }
    }, iter: 500);
}
