using CsCheck;
using MathNet.Numerics.Statistics;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Query;

/// <summary>Steps that look back in time: over, change, shift, gaps; against the plainest code and MathNet.</summary>
public sealed class OverTimeTests
{
    private sealed class Reader(SeriesKind kind, params Sample[][] series) : ISeriesReader
    {
        public long SamplesFrom { get; init; } = long.MinValue;

        public IEnumerable<string> Metrics() => ["m"];

        public Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop) =>
            Task.FromResult<IReadOnlyList<StoredSeries>>([.. series.Select((_, i) => new StoredSeries(i, 1, new SeriesKey("m", kind, "By", Labels.From([new("k8s.pod.name", "p" + i), new("k8s.namespace.name", "auction")]))))]);

        public Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> asked, long from, long to, CancellationToken stop) =>
            Task.FromResult<IReadOnlyList<Sample[]>>([.. asked.Select(one => series[(int)one.Id].Where(sample => sample.Time > from && sample.Time <= to).ToArray())]);
    }

    private const long Hour = 3_600_000;

    private static Answer Ask(string text, Reader reader, long from = 2 * Hour, long to = 3 * Hour) =>
        EnquiryRunner.Run(Parser.Read(text), null, new Window(from, to), new EnquiryReader(reader, new FixedRows()), new Limits(), CancellationToken.None).GetAwaiter().GetResult();

    private static EnquiryError Wrong(string text, Reader reader) => Should.Throw<EnquiryException>(() => Ask(text, reader)).Error;

    // A sample every 10 s for three hours, some of them missing.
    private static readonly Gen<Sample[]> Gauge = Gen.Select(Gen.Double[-100, 100], Gen.Int[0, 9]).Array[1080].Select(draws =>
        draws.Select((draw, i) => (draw.Item1, draw.Item2, Time: (i + 1) * 10_000L)).Where(one => one.Item2 > 1).Select(one => new Sample(one.Time, one.Item1)).ToArray());

    private static readonly Gen<string> Functions = Gen.Int[0, 8].Select(i => new[] { "count", "sum", "mean", "min", "max", "first", "last", "stddev", "p90" }[i]);

    private static double Plain(string function, double[] values) => values.Length == 0 ? double.NaN : function switch
    {
        "count" => values.Length,
        "sum" => values.Sum(),
        "mean" => values.Mean(),
        "min" => values.Min(),
        "max" => values.Max(),
        "first" => values[0],
        "last" => values[^1],
        "stddev" => values.StandardDeviation(),
        _ => values.QuantileCustom(0.9, QuantileDefinition.R7),
    };

    private static void Close(double value, double expected, string what)
    {
        // An empty slot is NaN on both sides.
        if (double.IsNaN(expected))
            double.IsNaN(value).ShouldBeTrue(what);
        else
            value.ShouldBe(expected, 1e-7, what);
    }

    [Fact]
    public void Over_is_the_function_of_what_lies_in_the_trailing_stretch() =>
        Gen.Select(Gauge, Functions, Gen.Int[0, 3].Select(i => new[] { 60, 90, 300, 3600 }[i])).Sample((samples, function, seconds) =>
        {
            // MathNet is the reference for mean, standard deviation and the quantile.
            var answer = Ask($"m -> over {seconds}s {function} -> max by pod every 60s", new Reader(SeriesKind.Gauge, samples));
            answer.Series.Single().Values.Length.ShouldBe(60);
            for (var slot = 0; slot < 60; slot++)
            {
                var end = 2 * Hour + (slot + 1) * 60_000;
                Close(answer.Series[0].Values[slot], Plain(function, [.. samples.Where(sample => sample.Time > end - seconds * 1000 && sample.Time <= end).Select(sample => sample.Value)]), $"{function} over {seconds}s at {end}");
            }
        }, iter: 300);

    [Fact]
    public void Over_a_computed_series_reads_as_far_back_as_it_needs()
    {
        // A counter that rises by 1 a second for two hours, then by 3: the mean of its rate over 30 min climbs from 1 to 3 in that time.
        var counter = Enumerable.Range(0, 1081).Select(i => new Sample(i * 10_000L, i * 10_000L <= 2 * Hour ? i * 10 : 7200 + (i * 10 - 7200) * 3.0)).ToArray();
        var values = Ask("m -> rate every 1m -> sum -> over 30m mean", new Reader(SeriesKind.Counter, counter)).Series.Single().Values;
        for (var slot = 0; slot < values.Length; slot++)
            values[slot].ShouldBe(1 + 2 * Math.Min(30, slot + 1) / 30.0, 1e-9);
    }

    [Fact]
    public void Change_is_the_last_value_in_the_slot_minus_the_last_before_it() => Gauge.Sample(samples =>
    {
        var values = Ask("m -> change every 60s", new Reader(SeriesKind.Gauge, samples)).Series.Single().Values;
        for (var slot = 0; slot < 60; slot++)
        {
            var (from, to) = (2 * Hour + slot * 60_000, 2 * Hour + (slot + 1) * 60_000);
            var (inside, before) = (samples.LastOrDefault(sample => sample.Time > from && sample.Time <= to), samples.Last(sample => sample.Time <= from));
            Close(values[slot], inside.Time == 0 ? double.NaN : inside.Value - before.Value, $"slot {slot}");
        }
    }, iter: 200);

    [Fact]
    public void Change_of_a_computed_series_knows_the_slot_before_the_window()
    {
        var ramp = Enumerable.Range(1, 1080).Select(i => new Sample(i * 10_000L, i)).ToArray();
        Ask("m -> max by pod every 60s -> change", new Reader(SeriesKind.Gauge, ramp)).Series.Single().Values.ShouldAllBe(value => Math.Abs(value - 6) < 1e-9);
    }

    [Theory]
    [InlineData("m -> shift 1h -> max by pod every 60s")]
    [InlineData("m -> max by pod every 60s -> shift 1h")]
    [InlineData("m -> max by pod every 60s -> shift 30m -> shift 30m")]
    [InlineData("a: m -> max by pod every 60s; a -> shift 1h")]
    public void What_was_earlier_is_laid_over_now_wherever_the_step_stands(string text)
    {
        var ramp = Enumerable.Range(1, 1080).Select(i => new Sample(i * 10_000L, i)).ToArray();
        var answer = Ask(text, new Reader(SeriesKind.Gauge, ramp));
        answer.FirstEnd.ShouldBe(2 * Hour + 60_000);
        answer.Series.Single().Values.ShouldBe(Enumerable.Range(1, 60).Select(minute => 360.0 + minute * 6));
    }

    [Fact]
    public void Now_is_compared_with_an_earlier_time_in_a_formula()
    {
        var ramp = Enumerable.Range(1, 1080).Select(i => new Sample(i * 10_000L, i)).ToArray();
        Ask("now: m -> max by pod every 60s; then: m -> shift 1h -> max by pod; now - then", new Reader(SeriesKind.Gauge, ramp))
            .Series.Single().Values.ShouldAllBe(value => Math.Abs(value - 360) < 1e-9);
        Ask("a: m -> max by pod every 60s; b: a -> shift 1h; c: a -> over 1h min; a - b + (a - c)", new Reader(SeriesKind.Gauge, ramp))
            .Series.Single().Values.ShouldAllBe(value => Math.Abs(value - 360 - 354) < 1e-9);
    }

    [Fact]
    public void Gaps_are_filled_with_zero_or_with_what_was_before()
    {
        Sample[] holed = [.. Enumerable.Range(1, 1080).Where(i => i is <= 730 or >= 760).Select(i => new Sample(i * 10_000L, i))];
        var reader = new Reader(SeriesKind.Gauge, holed);
        var bare = Ask("m -> max by pod every 60s", reader).Series.Single().Values;
        var empty = Enumerable.Range(0, 60).Where(slot => double.IsNaN(bare[slot])).ToArray();
        empty.ShouldBe([2, 3, 4, 5]);
        Ask("m -> max by pod every 60s -> gaps zero", reader).Series.Single().Values.Where((_, slot) => empty.Contains(slot)).ShouldAllBe(value => value == 0);
        Ask("m -> max by pod every 60s -> gaps hold", reader).Series.Single().Values.Where((_, slot) => empty.Contains(slot)).ShouldAllBe(value => value == bare[1]);
    }

    [Fact]
    public void The_spread_across_series_is_that_of_a_sample()
    {
        Sample[] Flat(double value) => [.. Enumerable.Range(1, 1080).Select(i => new Sample(i * 10_000L, value))];
        double[] values = [2, 4, 4, 4, 5, 5, 7, 9];
        Ask("m -> stddev every 60s", new Reader(SeriesKind.Gauge, [.. values.Select(Flat)])).Series.Single().Values.ShouldAllBe(value => Math.Abs(value - values.StandardDeviation()) < 1e-12);
    }

    [Theory]
    [InlineData("m -> over 10m max", "over", "rate -> over 10m max")]
    [InlineData("m -> change", "change", "rise")]
    [InlineData("m -> gaps zero", "gaps", "rate")]
    public void A_raw_counter_is_told_its_rate(string text, string word, string suggestion)
    {
        var error = Wrong(text, new Reader(SeriesKind.Counter, [.. Enumerable.Range(1, 1080).Select(i => new Sample(i * 10_000L, i))]));
        (error.Word, error.Suggestion).ShouldBe((word, suggestion));
    }

    [Theory]
    [InlineData("m -> max every 60s -> shift 90s", "shift", "shift 2m")]
    [InlineData("m -> max every 60s -> over 30s max", "over", "over 1m max")]
    [InlineData("m -> over 10m distinct", "distinct", "count")]
    [InlineData("m -> first", "first", "over 5m first")]
    [InlineData("m -> kinds", "kinds", "Leave out 'kinds', or take it before the step that counts.")]
    public void What_does_not_fit_is_explained(string text, string word, string suggestion)
    {
        var error = Wrong(text, new Reader(SeriesKind.Gauge, [.. Enumerable.Range(1, 1080).Select(i => new Sample(i * 10_000L, i))]));
        (error.Word, error.Suggestion).ShouldBe((word, suggestion));
    }

    [Fact]
    public void A_stretch_that_needs_too_many_slots_is_refused() =>
        Should.Throw<LimitException>(() => Ask("m -> max every 1s -> over 30d max", new Reader(SeriesKind.Gauge, [new Sample(Hour, 1)]))).Step.ShouldBe("every");

    [Fact]
    public void Where_only_summaries_are_kept_slots_become_wide_enough_for_them_and_a_note_says_so()
    {
        var reader = new Reader(SeriesKind.Gauge, [.. Enumerable.Range(1, 1080).Select(i => new Sample(i * 10_000L, i))]) { SamplesFrom = 5 * Hour / 2 };
        var answer = Ask("m -> max every 7m", reader);
        answer.Every.ShouldBe(TimeSpan.FromMinutes(10));
        answer.Notes.ShouldHaveSingleItem().ShouldSatisfyAllConditions(
            note => note.Kind.ShouldBe("width changed"),
            note => note.Text.ShouldContain("1970-01-01 02:30 UTC"),
            note => note.Cure.ShouldBe("every 10m"));
        answer.Series[0].Values.ShouldBe([780, 840, 900, 960, 1020, 1080]);
        Ask("m", reader).Every.ShouldBe(TimeSpan.FromMinutes(5));
        // Nothing is changed where the samples are there.
        Ask("m -> max every 7m", new Reader(SeriesKind.Gauge, [new Sample(2 * Hour + 1, 1)]) { SamplesFrom = Hour }).Every.ShouldBe(TimeSpan.FromMinutes(7));
        Wrong("m -> over 10m p90 -> max every 10m", reader).ShouldSatisfyAllConditions(
            error => error.Word.ShouldBe("over"),
            error => error.Message.ShouldContain("p90"));
        Ask("m -> over 10m max -> max every 10m", reader).Series[0].Values[0].ShouldBe(780);
    }
}
