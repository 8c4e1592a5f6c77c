using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Query;

/// <summary>Enquiries over histograms, as the table of types in query-language.md has them.</summary>
public sealed class HistogramEnquiryTests
{
    private static readonly ExplicitBuckets Bounds = new([0.1, 0.2, 0.4]);

    // Two pods of one service scraped every 15 s: each scrape adds 4 quick ones and, in the second, 1 slow one; the third pod is of another service.
    private sealed class Reader : ISeriesReader
    {
        public IEnumerable<string> Metrics() => ["http.server.request.duration"];

        public Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop) =>
            Task.FromResult<IReadOnlyList<StoredSeries>>([.. Enumerable.Range(0, 3).Select(i => new StoredSeries(i, 1, new SeriesKey(metric, SeriesKind.Histogram, "s", Labels.From([new("k8s.pod.name", "p" + i), new("service.name", i < 2 ? "ledger" : "settle")]))))]);

        public Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> asked, long from, long to, CancellationToken stop) => throw new InvalidOperationException("These are histograms.");

        public Task<IReadOnlyList<HistogramSample[]>> ReadHistograms(IReadOnlyList<StoredSeries> asked, long from, long to, CancellationToken stop) =>
            Task.FromResult<IReadOnlyList<HistogramSample[]>>([.. asked.Select(one => Enumerable.Range(1, 80)
                .Select(i => new HistogramSample(i * 15_000, new Histogram(Bounds, one.Id == 1 ? [0, 3] : [0], one.Id == 1 ? [4 * i, i] : [4 * i], one.Id == 1 ? i : 0.2 * i), 1)).Where(sample => sample.Time > from && sample.Time <= to).ToArray())]);
    }

    private static Answer Ask(string text) =>
        EnquiryRunner.Run(Parser.Read(text), null, new Window(300_000, 600_000), new EnquiryReader(new Reader(), new FixedRows()), new Limits(), CancellationToken.None).GetAwaiter().GetResult();

    private static EnquiryError Wrong(string text) => Should.Throw<EnquiryException>(() => Ask(text)).Error;

    [Fact]
    public void A_quantile_by_group_is_of_all_its_observations()
    {
        var answer = Ask("http.server.request.duration -> rise every 1m -> p50 by service");
        answer.Unit.ShouldBe("s");
        answer.Series.Select(series => series.Labels["service"]).ShouldBe(["ledger", "settle"]);
        // Of 36 observations a minute 32 lie in (0, 0.1], so that half of them is 18 of 32.
        answer.Series[0].Values.ShouldAllBe(value => Math.Abs(value - 0.1 * 18 / 32) < 1e-12);
        Ask("http.server.request.duration -> rise every 1m -> p95 by service").Series[0].Values[0].ShouldBe(0.4);
        answer.Steps.Select(step => step.Left).ShouldBe([3, 3, 2]);
    }

    [Fact]
    public void Count_mean_rate_and_sum_are_told_of_them()
    {
        Ask("http.server.request.duration -> rise every 1m -> count").Series[0].Values.ShouldAllBe(value => Math.Abs(value - 52) < 1e-9);
        Ask("http.server.request.duration -> rise every 1m -> count").Unit.ShouldBe("1");
        Ask("http.server.request.duration -> rate every 1m -> count by pod").Series[1].Values.ShouldAllBe(value => Math.Abs(value - 20 / 60.0) < 1e-9);
        // (4 · 1 s + 4 · 0.2 s) over 36 observations.
        Ask("http.server.request.duration -> where service = \"ledger\" -> rise every 1m -> mean").Series[0].Values[0].ShouldBe(4.8 / 36, 1e-12);
        Ask("http.server.request.duration -> rise every 1m -> sum by pod -> sum -> count").Series.ShouldHaveSingleItem().Values[0].ShouldBe(52, 1e-9);
        Ask("http.server.request.duration -> shift 2m -> rise every 1m -> count by pod -> highest 1").Series.ShouldHaveSingleItem().Labels["pod"].ShouldBe("p1");
    }

    [Fact]
    public void Drawn_as_it_is_the_mean_is_shown_and_a_note_says_so()
    {
        var answer = Ask("http.server.request.duration -> where pod = \"p1\"");
        answer.Series.ShouldHaveSingleItem().Values[3].ShouldBe(0.2, 1e-12);
        answer.Notes.ShouldHaveSingleItem().Cure.ShouldBe("rise -> p95");
    }

    [Theory]
    [InlineData("p95", "p95", "rise -> p95")]
    [InlineData("max", "max", "p95")]
    [InlineData("rise -> max by pod", "max", "p95")]
    [InlineData("highest 3", "highest", "rise -> p95 -> highest")]
    [InlineData("rise -> over 5m mean", "over", "p95 -> over")]
    [InlineData("rise -> rate", "rate", "Leave out 'rate'.")]
    [InlineData("rise -> p95 -> rate", "rate", "Leave out 'rate'.")]
    public void What_does_not_fit_names_both_types_and_what_was_meant(string steps, string word, string suggestion)
    {
        var error = Wrong("http.server.request.duration -> " + steps);
        error.Word.ShouldBe(word);
        error.Suggestion.ShouldBe(suggestion);
    }
}
