using CsCheck;
using MathNet.Numerics.Statistics;
using Skevin.Core.Logs;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Core.Tests.Query;

/// <summary>Steps that make fields and compare rows: parse, set, kinds, differ; sketches.</summary>
public sealed class RowStepTests
{
    private static Labels Of(params (string, string)[] pairs) => Labels.From(pairs.Select(pair => new KeyValuePair<string, string>(pair.Item1, pair.Item2)));

    private static IRow Line(long second, string text, LogLevel level = LogLevel.Info) =>
        new LogLine(second * 1_000_000_000, level, text, Of(("k8s.namespace.name", "auction")), Of(), default, 0);

    private static IRow Server(int second, double duration, string pod, bool failed, double weight = 1) => new Span(
        new TraceId(1, (ulong)second), (ulong)second + 1, 0, "POST /bids", SpanKind.Server, second * 1_000_000_000L, (long)(duration * 1e9), failed ? SpanStatus.Error : SpanStatus.Unset, "", weight,
        Of(("service.name", "ledger"), ("k8s.pod.name", pod)), Of(("http.response.status_code", failed ? "503" : "200")), []);

    private static Answer Ask(string text, RowKind kind, params IRow[] rows) =>
        EnquiryRunner.Run(Parser.Read(text), null, new Window(0, 3_600_000), new EnquiryReader(new NoSeries(), new FixedRows((kind, rows))), new Limits(), CancellationToken.None).GetAwaiter().GetResult();

    [Fact]
    public void A_pattern_makes_fields_with_types_and_units()
    {
        // The language's own example.
        var answer = Ask("logs -> parse \"sold lot {lot} for {price:number} in {took:duration}\" -> where took > 400ms -> show lot, price, took", RowKind.Logs,
            Line(1, "sold lot A-7 for 12.5 in 350ms"), Line(2, "sold lot A-8 for -3 in 1m30s"), Line(3, "opening"), Line(4, "hammer: sold lot B 9 for 1e3 in 0.5s."));
        answer.Steps.Select(step => step.Left).ShouldBe([4, 4, 2, 2]);
        answer.Rows!.Rows.ShouldBe([["B 9", 1000.0, 0.5], ["A-8", -3.0, 90.0]]);
        answer.Rows.Columns.ShouldBe([new("lot", ""), new("price", "1"), new("took", "s")]);
        answer.Notes.Single(note => note.Kind == "not parsed").ShouldBe(new Note(1, "not parsed", "1 of 4 rows does not fit; it has none of these fields."));
    }

    [Fact]
    public void What_a_pattern_found_is_counted_and_averaged_in_its_unit()
    {
        var answer = Ask("logs -> parse \"took {took:duration}\" -> mean took every 1h", RowKind.Logs, Line(1, "took 100ms"), Line(2, "took 0.3s"));
        (answer.Unit, answer.Series.Single().Values.Single()).ShouldBe(("s", 0.2));
        Ask("logs -> parse \"read {size:size}\" -> sum size every 1h", RowKind.Logs, Line(1, "read 2 KiB"), Line(2, "read 1.5kB")).ShouldSatisfyAllConditions(
            sum => sum.Unit.ShouldBe("By"), sum => sum.Series.Single().Values.Single().ShouldBe(3548));
    }

    [Fact]
    public void Json_is_flattened()
    {
        var answer = Ask("logs -> parse json -> where order.amount > 5 -> show order.amount, order.by, ok, tags", RowKind.Logs,
            Line(1, """{"order":{"amount":7.5,"by":"buyers"},"ok":true,"tags":["a",1],"none":null}"""), Line(2, """{"order":{"amount":2}}"""), Line(3, "{broken"), Line(4, "[1]"));
        answer.Rows!.Rows.Single().ShouldBe([7.5, "buyers", "true", "[\"a\",1]"]);
        answer.Notes.Single().Text.ShouldStartWith("2 of 4 rows do not fit");
    }

    [Theory]
    [InlineData("sold {lot", "closed")]
    [InlineData("sold}", "without")]
    [InlineData("sold", "names no field")]
    [InlineData("{a} {a}", "two fields named a")]
    [InlineData("{a:colour}", "not a type")]
    [InlineData("{odd name}", "not a name")]
    public void A_pattern_that_cannot_be_used_says_why(string pattern, string why) => TextPattern.Wrong(pattern).ShouldNotBeNull().ShouldContain(why);

    [Fact]
    public void What_a_pattern_wrote_it_reads() =>
        Gen.Select(Gen.String[Gen.Char["ab.*+?()[]|^$\\ "], 1, 6], Gen.Double[-1e6, 1e6], Gen.String[Gen.Char["xyz"], 1, 8]).Array[1, 4].Sample(parts =>
        {
            // Literals end with '#', which no field here holds, so that there is one way to read the text.
            var pattern = string.Concat(parts.Select((part, i) => $"{part.Item1}#{{n{i}:number}}#{{t{i}}}#"));
            var text = "before " + string.Concat(parts.Select(part => $"{part.Item1}#{part.Item2:R}#{part.Item3}#")) + " behind";
            TextPattern.Compile(pattern).Match(text).ShouldNotBeNull().ShouldBe(parts.SelectMany(part => new[] { FieldValue.Of(part.Item2), FieldValue.Of(part.Item3) }));
        }, iter: 2000);

    [Fact]
    public void No_pattern_and_no_text_do_worse_than_not_fit() =>
        Gen.Select(Gen.String[Gen.Char["a{}:number \\(*"], 0, 20], Gen.String[Gen.Char["a1.5ms \n-e{\"}"], 0, 40]).Sample((pattern, text) =>
        {
            if (TextPattern.Wrong(pattern) is null)
                TextPattern.Compile(pattern).Match(text);
        }, iter: 30_000);

    [Fact]
    public void A_field_is_computed_and_its_unit_follows()
    {
        var answer = Ask("spans -> set slow = duration - 100ms -> set share = slow / duration -> set who = pod -> show slow, share, who", RowKind.Spans, Server(1, 0.4, "p1", false), Server(2, 0, "p2", false));
        answer.Rows!.Columns.ShouldBe([new("slow", "s"), new("share", "1"), new("who", "")]);
        answer.Rows.Rows[0].ShouldBe([-0.1, null, "p2"]);
        ((double)answer.Rows.Rows[1][0]!).ShouldBe(0.3, 1e-12);
        ((double)answer.Rows.Rows[1][1]!).ShouldBe(0.75, 1e-12);
        Ask("spans -> set slow = 2 * duration -> max slow every 1h", RowKind.Spans, Server(1, 0.4, "p1", false)).ShouldSatisfyAllConditions(max => max.Unit.ShouldBe("s"), max => max.Series.Single().Values.Single().ShouldBe(0.8));
        Should.Throw<EnquiryException>(() => Ask("spans -> set x = duration + 5MB", RowKind.Spans)).Error.Word.ShouldBe("+");
    }

    [Fact]
    public void Lines_fall_into_kinds_that_parse_can_read()
    {
        var rows = Enumerable.Range(1, 300).Select(i => (i % 3) switch
        {
            0 => Line(i, $"sold lot A-{i} for {i * 1.5} in {i}ms"),
            1 => Line(i, $"bid of {new[] { "buyers", "yard", "agents" }[i / 3 % 3]} on lot A-{i} taken"),
            _ => Line(i, "opening " + new string('x', i % 5) + " of a door\n   at Door.Open()"),
        }).ToArray();
        var kinds = Ask("logs -> kinds", RowKind.Logs, rows).Rows!;
        kinds.View.ShouldBe("kinds");
        kinds.Columns.Select(column => column.Name).ShouldBe(["kind", "count", "example", "time"]);
        kinds.Rows.Sum(row => (double)row[1]!).ShouldBe(300);
        kinds.Rows[0][0].ShouldBe("bid of {} on lot A-{} taken");
        kinds.Rows[1].ShouldBe(["sold lot A-{} for {} in {}", 100.0, "sold lot A-300 for 450 in 300ms", 300_000.0]);
        TextPattern.Compile(((string)kinds.Rows[1][0]!).Replace("A-{}", "A-{lot}")).Match("sold lot A-7 for 2 in 9ms").ShouldNotBeNull();
    }

    [Fact]
    public void A_kind_is_a_field_that_names_the_same_lines_at_any_time()
    {
        var rows = Enumerable.Range(1, 90).Select(i => Line(i, i % 3 == 0 ? $"sold lot A-{i} for {i * 1.5} in {i}ms" : $"bid {i} refused\n   at Door.Open()")).ToArray();
        var answer = Ask("logs -> count by kind every 1h", RowKind.Logs, rows);
        answer.Series.Select(series => (series.Labels["kind"], series.Values.Single())).ShouldBe([("bid {} refused", 60.0), ("sold lot A-{} for {} in {}", 30.0)], ignoreOrder: true);
        // Whatever else was in the window, a line has the kind it has alone: what was counted in one week can be held against another.
        foreach (var row in rows)
            Ask("logs -> where kind = \"bid {} refused\" -> show text", RowKind.Logs, row).Rows!.Rows.Count.ShouldBe(((string)row["text"].Text!).StartsWith("bid", StringComparison.Ordinal) ? 1 : 0);
        LineKinds.Shape(string.Join(' ', Enumerable.Repeat("word", 80))).Length.ShouldBeLessThanOrEqualTo(165);
        LineKinds.Shape("").ShouldBe("");
    }

    [Fact]
    public void Kinds_are_bounded_and_lose_no_line()
    {
        var random = new Random(7);
        string Word() => new([.. Enumerable.Range(0, 6).Select(_ => (char)('a' + random.Next(26)))]);
        var kinds = new LineKinds();
        for (var i = 0; i < 20_000; i++)
            kinds.Add($"{Word()} {Word()} {Word()}", i, 1);
        kinds.Finish().Count.ShouldBeLessThanOrEqualTo(LineKinds.MostKinds + 1);
        kinds.Finish().Sum(kind => kind.Count).ShouldBe(20_000);
    }

    [Fact]
    public void What_differs_is_named_with_its_shares()
    {
        // Of 100 calls, 20 fail: 18 of them on p1, which serves 30 in all.
        var rows = Enumerable.Range(0, 100).Select(i => Server(i + 1, 0.1, i < 30 ? "p1" : "p2", i < 18 || i is 50 or 51)).ToArray();
        var answer = Ask("spans -> differ where status = \"error\"", RowKind.Spans, rows);
        answer.Rows!.Columns.Select(column => column.Name).ShouldBe(["field", "value", "inside", "outside", "lift"]);
        var pod = answer.Rows.Rows.Single(row => (string?)row[0] == "pod");
        pod[1].ShouldBe("p1");
        ((double)pod[2]!).ShouldBe(90, 1e-9);
        ((double)pod[3]!).ShouldBe(15, 1e-9);
        ((double)pod[4]!).ShouldBe(0.9 / 0.3, 1e-12);
        // What tells the two sides apart entirely stands first; the condition's own field says nothing new.
        answer.Rows.Rows[0][0].ShouldBe("http.response.status_code");
        answer.Rows.Rows.ShouldNotContain(row => (string?)row[0] == "status");
        answer.Rows.Rows.ShouldNotContain(row => (string?)row[0] == "service");
    }

    [Theory]
    [InlineData("spans -> differ where status = \"nothing\"", "No row fulfils")]
    [InlineData("spans -> differ where status exists", "Every row fulfils")]
    public void Without_two_sides_there_is_nothing_to_compare(string text, string why) =>
        Ask(text, RowKind.Spans, Server(1, 0.1, "p1", false)).Notes.Single().Text.ShouldStartWith(why);

    [Fact]
    public void The_spread_the_first_and_the_last_of_rows()
    {
        double[] seconds = [0.2, 0.4, 0.4, 0.4, 0.5, 0.5, 0.7, 0.9];
        var rows = seconds.Select((duration, i) => Server(10 + (i * 5) % 8, duration, "p", false)).ToArray();
        Ask("spans -> stddev duration every 1h", RowKind.Spans, rows).Series.Single().Values.Single().ShouldBe(seconds.StandardDeviation(), 1e-12);
        Ask("spans -> first duration every 1h", RowKind.Spans, rows).Series.Single().Values.Single().ShouldBe(0.2);
        Ask("spans -> last duration every 1h", RowKind.Spans, rows).Series.Single().Values.Single().ShouldBe(seconds[Array.FindIndex(Enumerable.Range(0, 8).ToArray(), i => i * 5 % 8 == 7)]);
    }

    [Fact]
    public void A_weight_counts_as_so_many_values() =>
        Ask("spans -> stddev duration every 1h", RowKind.Spans, Server(1, 0.1, "p", false, 3), Server(2, 0.5, "p", false)).Series.Single().Values.Single()
            .ShouldBe(new[] { 0.1, 0.1, 0.1, 0.5 }.StandardDeviation(), 1e-12);

    [Fact]
    public void A_sketch_is_within_its_error_and_can_be_merged() => Gen.Double[-1e4, 1e9].Array[1, 400].Sample(values =>
    {
        var (whole, half, other) = (new QuantileSketch(), new QuantileSketch(), new QuantileSketch());
        foreach (var (i, value) in values.Index())
        {
            whole.Add(value, 1);
            (i % 2 == 0 ? half : other).Add(value, 1);
        }
        half.Merge(other);
        // The nearest rank below position (n − 1) p, as the paper defines it, from sorted values.
        var sorted = values.Order().ToArray();
        foreach (var p in new[] { 0, 0.5, 0.9, 0.99, 1 })
        {
            var exact = sorted[(int)Math.Floor((sorted.Length - 1) * p)];
            whole.Quantile(p).ShouldBe(exact, Math.Abs(exact) * QuantileSketch.RelativeError * 1.0001 + 1e-12);
            half.Quantile(p).ShouldBe(whole.Quantile(p));
        }
    }, iter: 2000);

    private sealed record Taken(long Milliseconds, double Seconds) : IRow
    {
        public double Weight => 1;

        public FieldValue this[string field] => field == "duration" ? FieldValue.Of(Seconds) : FieldValue.Absent;

        public IEnumerable<string> Fields => [];
    }

    [Fact]
    public void Above_the_stated_number_of_values_a_sketch_is_used_and_said()
    {
        var rows = new IRow[Quantiles.MostExact + 10];
        for (var i = 0; i < rows.Length; i++)
            rows[i] = new Taken(1000 + i % 3000 * 1000, (i % 1000 + 1) / 1000.0);
        var answer = Ask("spans -> p95 duration every 1h", RowKind.Spans, rows);
        answer.Series.Single().Values.Single().ShouldBe(0.95, 0.95 * QuantileSketch.RelativeError);
        answer.Notes.ShouldContain(note => note.Kind == "sketch used");
    }
}
