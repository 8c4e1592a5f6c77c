using CsCheck;
using MathNet.Numerics.Statistics;
using OpenTelemetry.Proto.Collector.Trace.V1;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Tests.Query;
using Skevin.Core.Traces;

namespace Skevin.Core.Tests.Traces;

public sealed class TraceTests
{
    [Fact]
    public void The_specifications_example_header_is_read_and_written()
    {
        // W3C Trace Context level 1, section 3.2.2.5.
        const string Header = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";
        TraceParent.TryRead(Header, out var trace, out var span, out var sampled).ShouldBeTrue();
        (trace.ToString(), TraceId.SpanText(span), sampled).ShouldBe(("4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7", true));
        TraceParent.Write(trace, span, true).ShouldBe(Header);
        // A later version may be longer; version 00 may not (section 3.2.4).
        TraceParent.TryRead("cc-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01-more", out _, out _, out _).ShouldBeTrue();
    }

    [Theory]
    // W3C Trace Context, section 3.2.2: all zero, upper case, version ff, too short, too long for its version.
    [InlineData("00-00000000000000000000000000000000-00f067aa0ba902b7-01")]
    [InlineData("00-4bf92f3577b34da6a3ce929d0e0e4736-0000000000000000-01")]
    [InlineData("00-4BF92F3577B34DA6A3CE929D0E0E4736-00f067aa0ba902b7-01")]
    [InlineData("ff-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")]
    [InlineData("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7")]
    [InlineData("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01-x")]
    [InlineData("")]
    public void A_malformed_header_is_none(string header) => TraceParent.TryRead(header, out _, out _, out _).ShouldBeFalse();

    [Fact]
    public void Any_header_is_read_or_none() => Gen.String[Gen.Char["0f-aA1"], 50, 60].Sample(header => { TraceParent.TryRead(header, out _, out _, out _); });

    [Theory]
    // OpenTelemetry specification, "TraceState: Probability Sampling" (from memory): th:8 keeps half, th:c a quarter, th:0 all.
    [InlineData("ot=th:8", 2)]
    [InlineData("ot=th:c", 4)]
    [InlineData("ot=th:0", 1)]
    [InlineData("vendor=x, ot=rv:1;th:c", 4)]
    public void A_threshold_says_how_many_a_trace_stands_for(string state, double weight) => HeadSampling.Weight(HeadSampling.Read(state)!.Value).ShouldBe(weight);

    [Fact]
    public void A_share_is_kept_by_the_id_alone_and_its_weights_add_up_to_all()
    {
        var random = new Random(7);
        var threshold = HeadSampling.Threshold(0.25);
        HeadSampling.Read(HeadSampling.Write("a=b", threshold)).ShouldBe(threshold);
        HeadSampling.Write("a=b,ot=th:8;rv:12", threshold).ShouldBe("ot=th:c;rv:12,a=b");
        var kept = Enumerable.Range(0, 40_000).Count(_ => HeadSampling.Keeps(new TraceId(1, (ulong)random.NextInt64()), threshold));
        // Four standard deviations of a binomial: √(40000 · ¼ · ¾) = 87.
        (kept * HeadSampling.Weight(threshold)).ShouldBe(40_000, 4 * 87 * 4);
        HeadSampling.Read("ot=rv:1").ShouldBeNull();
        HeadSampling.Read("ot=th:xyz").ShouldBeNull();
        HeadSampling.Threshold(1).ShouldBe(0ul);
    }

    private static ExportTraceServiceRequest Json(string spans) => OtlpJson.Read<ExportTraceServiceRequest>(System.Text.Encoding.UTF8.GetBytes("""
        {"resourceSpans":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"my.service"}},{"key":"k8s.namespace.name","value":{"stringValue":"auction"}}]},
        "scopeSpans":[{"scope":{"name":"my.library"},"spans":[SPANS]}]}]}
        """.Replace("SPANS", spans)));

    // The specification's own example of a trace in JSON (opentelemetry-proto, examples/trace.json, from memory).
    private const string Example = """
        {"traceId":"5B8EFFF798038103D269B633813FC60C","spanId":"EEE19B7EC3C1B174","parentSpanId":"EEE19B7EC3C1B173","name":"I'm a server span","startTimeUnixNano":"1544712660000000000",
        "endTimeUnixNano":"1544712661000000000","kind":2,"attributes":[{"key":"my.span.attr","value":{"stringValue":"some value"}}]}
        """;

    [Fact]
    public void The_specifications_example_becomes_a_span()
    {
        var read = OtlpTraces.Read(Json(Example), "larkfield-north", new StampRange(0, long.MaxValue));
        var span = read.Spans.ShouldHaveSingleItem();
        (span.Trace.ToString(), TraceId.SpanText(span.Id), TraceId.SpanText(span.Parent)).ShouldBe(("5b8efff798038103d269b633813fc60c", "eee19b7ec3c1b174", "eee19b7ec3c1b173"));
        (span["kind"].Text, span["duration"].Number, span["service"].Text, span["my.span.attr"].Text, span["cluster"].Text).ShouldBe(("server", 1.0, "my.service", "some value", "larkfield-north"));
        read.Sources.ShouldHaveSingleItem().Source.ShouldBe("auction/my.service");
    }

    [Fact]
    public void Spans_that_cannot_be_are_refused_with_the_reason()
    {
        var bad = Json(Example.Replace("5B8EFFF798038103D269B633813FC60C", new string('0', 32)) + "," + Example.Replace("1544712661", "1544712600") + "," + Example);
        var read = OtlpTraces.Read(bad, "c", new StampRange(0, 1));
        read.Spans.ShouldBeEmpty();
        read.Refused.Count.ShouldBe(3);
        read.Refused.Why.ShouldContain("no valid trace id");
        read.Refused.Why.ShouldContain("ends before it begins");
        read.Refused.Why.ShouldContain("ahead");
    }

    private static Span Of(ulong id, ulong parent, SpanKind kind, string workload, double ms = 10, bool failed = false, double weight = 1, string? to = null) => new(
        new TraceId(1, 1), id, parent, "op " + id, kind, (long)id * 1_000_000, (long)(ms * 1e6), failed ? SpanStatus.Error : SpanStatus.Unset, "", weight,
        Labels.From([new("service.name", workload), new("k8s.namespace.name", "ns")]), to is null ? Labels.None : Labels.From([new("server.address", to)]), []);

    [Fact]
    public void Who_calls_whom_is_read_off_spans_and_their_parents()
    {
        Span[] spans = [Of(1, 0, SpanKind.Server, "gate", 100, weight: 2), Of(2, 1, SpanKind.Client, "gate"), Of(3, 2, SpanKind.Server, "ledger", 40, failed: true), Of(4, 3, SpanKind.Client, "ledger", 30, to: "bank")];
        var edges = TraceRows.Graph(spans, spans, 10).Select(row => (row["source"].Text, row["destination"].Text, row["rate"].Number, row["errors"].Number, row["p95"].Number)).ToArray();
        edges.ShouldBe([("outside", "gate", 0.2, 0, 0.1), ("gate", "ledger", 0.1, 0.1, 0.04), ("ledger", "bank", 0.1, 0, 0.03)], ignoreOrder: true);
    }

    private static IReadOnlyList<object?[]> Asked(string text, IEnumerable<IRow> rows) => EnquiryRunner.Run(
        Parser.Read(text), null, new Window(-1, 1_000_000), new EnquiryReader(new NoSeries(), new FixedRows((RowKind.Spans, [.. rows]))), new Limits(), CancellationToken.None).GetAwaiter().GetResult().Rows!.Rows;

    [Fact]
    public void A_trace_is_one_row_with_its_root_length_and_errors() =>
        Asked("spans -> traces -> show root, service, spans, errors, duration", [Of(2, 1, SpanKind.Server, "ledger", 40, failed: true), Of(1, 0, SpanKind.Server, "gate", 100)])
            .ShouldHaveSingleItem().ShouldBe(["op 1", "gate", 2.0, 1.0, 0.1]);

    [Fact]
    public void Rows_of_traces_are_what_grouping_all_spans_gives_whole_or_by_columns() =>
        Gen.Select(Gen.ULong[1, 6], Gen.Int[0, 900], Gen.Int[0, 90], Gen.Bool, Gen.Bool, Gen.Int[0, 2]).Array[1, 40].Sample(drawn =>
        {
            var spans = drawn.Select((one, i) => new Span(new TraceId(one.Item1, 7), (ulong)i + 1, one.Item4 ? 0 : (ulong)i + 100, "op " + i, SpanKind.Server, one.Item2 * 1_000_000L, one.Item3 * 1_000_000L,
                one.Item5 ? SpanStatus.Error : SpanStatus.Ok, "", 1, Labels.From([new("service.name", "s" + one.Item6)]), Labels.None, [])).ToArray();
            var expected = spans.GroupBy(span => span.Trace).ToDictionary(trace => trace.Key.ToString(), trace =>
            {
                var roots = trace.Where(span => span.Parent == 0).ToArray();
                var earliest = (roots.Length > 0 ? roots : [.. trace]).Min(span => span.Start);
                return (Roots: (roots.Length > 0 ? roots : [.. trace]).Where(span => span.Start == earliest).Select(span => span.Name).ToArray(), Spans: (double)trace.Count(), Errors: (double)trace.Count(span => span.Status == SpanStatus.Error),
                    Duration: (trace.Max(span => span.Start + span.Duration) - trace.Min(span => span.Start)) / 1e9);
            });
            var columns = SpanBlock.Open(SpanColumns.Encode(spans));
            foreach (var rows in new[] { spans, Enumerable.Range(0, columns.Count).Select(i => columns[i]) })
            {
                var answer = Asked("spans -> traces -> order duration down -> show trace, root, spans, errors, duration", rows);
                answer.Select(row => (double)row[4]!).ShouldBe(expected.Values.Select(trace => trace.Duration).OrderDescending());
                foreach (var row in answer)
                {
                    var trace = expected[(string)row[0]!];
                    ((double)row[2]!, (double)row[3]!, (double)row[4]!).ShouldBe((trace.Spans, trace.Errors, trace.Duration));
                    // Of several that begin at once any may be the root.
                    trace.Roots.ShouldContain((string)row[1]!);
                }
                answer.Count.ShouldBe(expected.Count);
            }
        }, iter: 1000);

    [Fact]
    public void Quantiles_are_those_of_definition_R7() => Gen.Select(Gen.Double[-100, 100].Array[1, 60], Gen.Double[0, 1], Gen.Bool).Sample((values, p, tied) =>
    {
        var used = tied ? [.. values.Select(value => Math.Round(value / 25))] : values;
        // MathNet.Numerics, QuantileDefinition.R7, as a reference.
        Quantiles.Exact([.. used.Select(value => (value, 1.0))], p).ShouldBe(used.QuantileCustom(p, QuantileDefinition.R7), 1e-9);
    });

    [Fact]
    public void A_value_of_weight_three_counts_as_three() => Gen.Select(Gen.Select(Gen.Double[-9, 9], Gen.Int[1, 5]).Array[1, 20], Gen.Double[0, 1]).Sample((values, p) =>
        Quantiles.Exact([.. values.Select(pair => (pair.Item1, (double)pair.Item2))], p)
            .ShouldBe(values.SelectMany(pair => Enumerable.Repeat(pair.Item1, pair.Item2)).QuantileCustom(p, QuantileDefinition.R7), 1e-9));
}
