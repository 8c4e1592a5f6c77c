using CsCheck;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Tests.Query;
using Skevin.Core.Traces;

namespace Skevin.Core.Tests.Traces;

/// <summary>Traces of spans that a block has summed up are those of its spans, one by one; these are the reference.</summary>
public sealed class TracePartTests
{
    private sealed class ByTrace(Span[] spans) : IRowReader
    {
        public async IAsyncEnumerable<RowBatch> Rows(RowKind kind, long from, long to, RowHints hints, [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken stop)
        {
            await Task.CompletedTask;
            // Small blocks come span by span; a trace may lie in both.
            foreach (var (i, some) in spans.Chunk(16).Index())
                yield return new RowBatch(0, hints.ByTrace && i % 2 == 0 ? new SpanColumns(SpanColumns.Encode(some)).Parts(from, to, labels => labels["k8s.namespace.name"] != "hidden")
                    : [.. some.Where(span => span.Milliseconds > from && span.Milliseconds <= to && span.Resource["k8s.namespace.name"] != "hidden")]);
        }

        public Task<IReadOnlySet<long>> Arriving(RowKind kind, long from, long to, CancellationToken stop) => new FixedRows().Arriving(kind, from, to, stop);
    }

    private static readonly Labels[] Origins = [.. new[] { "auction", "payout", "hidden" }.Select(name => Labels.From([new("service.name", "of-" + name), new("k8s.namespace.name", name)]))];

    private static readonly Gen<Span[]> Spans = Gen.Select(Gen.Int[0, 2], Gen.ULong[0, 6], Gen.Int[0, 9], Gen.Long[0, 600_000_000_000], Gen.Long[0, 5_000_000_000], Gen.Bool).Select(
        (origin, trace, name, start, duration, root) => new Span(new TraceId(1, trace + 1), (ulong)start + 1, root ? 0UL : 5, "n" + name, SpanKind.Server, start, duration, name == 0 ? SpanStatus.Error : SpanStatus.Ok, "", 1, Origins[origin], Labels.None, [])).Array[1, 80]
        // Of two spans that begin at once either may be the earliest.
        .Select(spans => spans.DistinctBy(span => span.Start).ToArray());

    [Theory]
    [InlineData("spans -> traces")]
    [InlineData("spans -> where name = \"n1\" -> traces")]
    [InlineData("spans -> traces -> order duration down -> first 3")]
    [InlineData("spans -> traces -> where errors > 0")]
    public void Parts_of_traces_make_the_same_traces(string text) => Spans.Sample(spans =>
    {
        async Task<AnswerRows> Ask(IRowReader rows) => (await EnquiryRunner.Run(Parser.Read(text), null, new Window(60_000, 600_000), new EnquiryReader(new NoSeries(), rows), new Limits(), default)).Rows!;
        var (seen, expected) = (Ask(new ByTrace(spans)).Result, Ask(new FixedRows((RowKind.Spans, [.. spans.Where(span => span.Resource["k8s.namespace.name"] != "hidden")]))).Result);
        seen.Rows.Select(row => string.Join("|", row)).ShouldBe(expected.Rows.Select(row => string.Join("|", row)));
    }, iter: 400);
}
