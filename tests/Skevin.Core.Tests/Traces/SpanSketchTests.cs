using CsCheck;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Tests.Query;
using Skevin.Core.Traces;

namespace Skevin.Core.Tests.Traces;

/// <summary>What is answered from sketches is what the spans themselves say; their reference are the spans, by the same enquiry.</summary>
public sealed class SpanSketchTests
{
    // Pretends that there are very many, and gives sketches where they will do.
    private sealed class Many(Span[] spans) : IRowReader
    {
        public bool Sketched { get; private set; }

        public async IAsyncEnumerable<RowBatch> Rows(RowKind kind, long from, long to, RowHints hints, [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken stop)
        {
            await Task.CompletedTask;
            Sketched |= hints.Sketched;
            // Half of the blocks are too small to have sketches.
            foreach (var (i, block) in spans.Chunk(40).Index())
                yield return new RowBatch(0, [.. (hints.Sketched && i % 2 == 0 ? SpanSketches.Decode(SpanSketches.Of(block)).Cast<IRow>() : block).Where(row => row.Milliseconds > from && row.Milliseconds <= to)]);
        }

        public Task<long> Most(RowKind kind, long from, long to, CancellationToken stop) => Task.FromResult(2_000_000L);

        public Task<IReadOnlySet<long>> Arriving(RowKind kind, long from, long to, CancellationToken stop) => new FixedRows().Arriving(kind, from, to, stop);
    }

    private static readonly Labels[] Origins = [.. new[] { ("ledger", "auction"), ("settle", "payout"), ("clock", "auction") }.Select(one => Labels.From(
        [new("service.name", one.Item1), new("k8s.namespace.name", one.Item2), new("k8s.deployment.name", one.Item1), new("k8s.pod.name", one.Item1 + "-1"), new("k8s.cluster.name", "c")]))];

    private static readonly Gen<Span[]> Spans = Gen.Select(Gen.Int[0, 2], Gen.Int[0, 3], Gen.Int[1, 5], Gen.Int[0, 2], Gen.Long[0, 600_000_000_000], Gen.Long[0, 5_000_000_000], Gen.Int[0, 2].Select(i => new[] { 1, 4, 10 / 3.0 }[i])).Select(
        (origin, name, kind, status, start, duration, weight) => new Span(new TraceId(1, (ulong)start), (ulong)start + 1, 0, "n" + name, (SpanKind)kind, start, duration, (SpanStatus)status, "", weight, Origins[origin], Labels.None, [])).Array[1, 200];

    [Theory]
    [InlineData("spans -> count every 1m", 0)]
    [InlineData("spans -> where status = \"error\" -> count by service every 2m", 0)]
    [InlineData("spans -> where service in (\"ledger\", \"clock\") and kind != \"client\" -> mean duration by workload, name every 5m", 0)]
    [InlineData("spans -> max duration by namespace every 1m", 0)]
    [InlineData("spans -> min duration every 2m", 0)]
    [InlineData("spans -> sum duration by kind, status every 10m", 0)]
    [InlineData("spans -> p95 duration by service every 10m", QuantileSketch.RelativeError * 1.001)]
    public void Sketches_answer_as_the_spans_do(string text, double within) => Spans.Sample(spans =>
    {
        async Task<Answer> Ask(IRowReader rows) => await EnquiryRunner.Run(Parser.Read(text), null, new Window(0, 600_000), new EnquiryReader(new NoSeries(), rows), new Limits(), default);
        var many = new Many(spans);
        var (seen, expected) = (Ask(many).Result, Ask(new FixedRows((RowKind.Spans, spans))).Result);
        many.Sketched.ShouldBeTrue();
        seen.Steps.Select(step => step.Left).ShouldBe(expected.Steps.Select(step => step.Left));
        seen.Series.Select(series => series.Labels.ToString()).ShouldBe(expected.Series.Select(series => series.Labels.ToString()), ignoreOrder: true);
        foreach (var series in expected.Series)
        {
            var own = seen.Series.Single(one => one.Labels.Equals(series.Labels)).Values;
            for (var i = 0; i < own.Length; i++)
                if (double.IsNaN(series.Values[i]))
                    double.IsFinite(own[i]).ShouldBe(false);
                else if (within == 0)
                    own[i].ShouldBe(series.Values[i], Math.Abs(series.Values[i]) * 1e-9 + 1e-12);
                else
                    // R-7 lies between two values; the sketch gives the lower of the two.
                    Between(spans, series.Labels["service"]!, i, own[i], within).ShouldBeTrue($"{own[i]} against {series.Values[i]}");
        }
    }, iter: 60);

    private static bool Between(Span[] spans, string service, int slot, double value, double within)
    {
        var values = spans.Where(span => span.Resource["service.name"] == service && span.Milliseconds > slot * 600_000L && span.Milliseconds <= (slot + 1) * 600_000L)
            .SelectMany(span => Enumerable.Repeat(span.Duration / 1e9, (int)Math.Ceiling(span.Weight))).Order().ToArray();
        // Weights that are no whole numbers move the place by less than one span.
        var at = (values.Length - 1) * 0.95;
        var (low, high) = (values[Math.Max(0, (int)(at * 0.85) - 4)], values[Math.Min(values.Length - 1, (int)Math.Ceiling(at) + 4)]);
        return value >= low * (1 - within) && value <= high * (1 + within);
    }

    [Theory]
    [InlineData("spans -> where pod = \"ledger-1\" -> count every 1m")]
    [InlineData("spans -> where duration > 1s -> count every 1m")]
    [InlineData("spans -> p95 duration every 30s")]
    [InlineData("spans -> distinct name every 1m")]
    public async Task What_sketches_do_not_know_is_asked_of_the_spans(string text)
    {
        var many = new Many([new Span(new TraceId(1, 1), 1, 0, "n", SpanKind.Server, 1_000_000_000, 5_000_000, SpanStatus.Ok, "", 1, Origins[0], Labels.None, [])]);
        await EnquiryRunner.Run(Parser.Read(text), null, new Window(0, 600_000), new EnquiryReader(new NoSeries(), many), new Limits(), default);
        many.Sketched.ShouldBeFalse();
    }

    [Fact]
    public void Any_bytes_are_sketches_or_refused() => Gen.Select(Spans, Gen.Int[0, 2000], Gen.Byte).Sample((spans, at, with) =>
    {
        var block = SpanSketches.Of(spans);
        block[at % block.Length] = with;
        try
        {
            SpanSketches.Decode(block);
        }
        catch (FormatException)
        {
        }
    }, iter: 300);
}
