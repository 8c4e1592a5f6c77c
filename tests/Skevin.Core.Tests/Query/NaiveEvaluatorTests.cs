using CsCheck;
using MathNet.Numerics.Interpolation;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Query;

/// <summary>The runner against an evaluator that does the plainest thing, over random series and pipelines.</summary>
public sealed class NaiveEvaluatorTests
{
    private sealed record Source(string Namespace, string Pod, double Seed, bool Counter);

    private sealed class Reader(IReadOnlyList<(SeriesKey Key, Sample[] Samples)> series) : ISeriesReader
    {
        public IEnumerable<string> Metrics() => ["m"];

        public Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop) => Task.FromResult<IReadOnlyList<StoredSeries>>([.. series.Select((one, i) => new StoredSeries(i, 1, one.Key))]);

        public Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> asked, long from, long to, CancellationToken stop) =>
            Task.FromResult<IReadOnlyList<Sample[]>>([.. asked.Select(one => series[(int)one.Id].Samples.Where(sample => sample.Time > from && sample.Time <= to).ToArray())]);
    }

    private const long Interval = 10_000;
    private const long End = 600_000;

    private static Sample[] Samples(double seed, bool counter)
    {
        var value = 0.0;
        return [.. Enumerable.Range(0, (int)(End / Interval) + 1).Select(i =>
        {
            var step = Math.Abs(Math.Sin(seed * 97 + i * 13.7)) * 50;
            value = counter ? value + step : step;
            return new Sample(i * Interval + (long)(seed * 4000) % 4000, value);
        })];
    }

    private static readonly Gen<(double[] Seeds, long Width, int Function, int By, int Keep)> Cases =
        Gen.Select(Gen.Double[0, 1].Array[1, 8], Gen.Int[2, 9], Gen.Int[0, 4], Gen.Int[0, 2], Gen.Int[1, 6], (seeds, width, function, by, keep) => (seeds, width * Interval, function, by, keep));

    private static (Reader Reader, (string Namespace, string Pod, Sample[] Samples)[] Series) Make(double[] seeds, bool counter)
    {
        var series = seeds.Select((seed, i) => (Namespace: i % 2 == 0 ? "auction" : "payout", Pod: $"p{i}", Samples: Samples(seed, counter))).ToArray();
        return (new Reader([.. series.Select(one => (new SeriesKey("m", counter ? SeriesKind.Counter : SeriesKind.Gauge, "By",
            Labels.From([new("k8s.namespace.name", one.Namespace), new("k8s.pod.name", one.Pod)])), one.Samples))]), series);
    }

    private static double Fold(int function, double[] values) => function switch { 0 => values.Length, 1 => values.Sum(), 2 => values.Average(), 3 => values.Min(), _ => values.Max() };

    private static Answer Run(string text, Reader reader) =>
        EnquiryRunner.Run(Parser.Read(text), null, new Window(100_000, 500_000), new EnquiryReader(reader, new FixedRows()), new Limits(), CancellationToken.None).GetAwaiter().GetResult();

    private static void Compare(Answer answer, IReadOnlyDictionary<string, double[]> expected, long width, string text)
    {
        answer.Series.Count.ShouldBe(expected.Count, text);
        answer.FirstEnd.ShouldBe((100_000 / width + 1) * width);
        foreach (var series in answer.Series)
        {
            var own = expected[string.Join("/", series.Labels.Select(pair => pair.Value))];
            series.Values.Length.ShouldBe(own.Length, text);
            for (var i = 0; i < own.Length; i++)
                series.Values[i].ShouldBe(own[i], Math.Max(1e-9, Math.Abs(own[i]) * 1e-9), $"{text}, slot {i}");
        }
    }

    private static long[] Ends(long width) => [.. Enumerable.Range(1, (int)(500_000 / width)).Select(n => n * width).Where(end => end > 100_000)];

    [Fact]
    public void Gauges_are_grouped_and_folded_as_the_plainest_code_does() => Cases.Sample(given =>
    {
        var (reader, series) = Make(given.Seeds, counter: false);
        var word = new[] { "count", "sum", "mean", "min", "max" }[given.Function];
        var by = new[] { "", " by namespace", " by pod" }[given.By];
        var text = $"m -> {word}{by} every {given.Width / 1000}s";
        var groups = series.GroupBy(one => given.By switch { 0 => "", 1 => one.Namespace, _ => one.Pod });
        var expected = groups.ToDictionary(group => group.Key, group => Ends(given.Width).Select(end =>
        {
            var slots = group.Select(one => one.Samples.Where(sample => sample.Time > end - given.Width && sample.Time <= end).Select(sample => sample.Value).ToArray()).Where(values => values.Length > 0);
            return Fold(given.Function, [.. slots.Select(values => given.Function switch { 3 => values.Min(), 4 => values.Max(), _ => values.Average() })]);
        }).ToArray());
        Compare(Run(text, reader), expected, given.Width, text);
    }, iter: 1500);

    [Fact]
    public void A_rise_is_the_difference_of_the_straight_line_through_the_samples() => Cases.Sample(given =>
    {
        // Splitting a rise in proportion to time is drawing a straight line between samples: MathNet's linear spline is the reference.
        var (reader, series) = Make(given.Seeds, counter: true);
        var text = $"m -> rise every {given.Width / 1000}s -> sum by namespace";
        var expected = series.GroupBy(one => one.Namespace).ToDictionary(group => group.Key, group => Ends(given.Width).Select(end => group.Sum(one =>
        {
            var line = LinearSpline.InterpolateSorted([.. one.Samples.Select(sample => (double)sample.Time)], [.. one.Samples.Select(sample => sample.Value)]);
            return line.Interpolate(end) - line.Interpolate(end - given.Width);
        })).ToArray());
        Compare(Run(text, reader), expected, given.Width, text);
    }, iter: 1000);

    [Fact]
    public void The_highest_and_lowest_are_those_a_sort_gives() => Cases.Sample(given =>
    {
        var (reader, series) = Make(given.Seeds, counter: false);
        var word = new[] { "count", "sum", "mean", "min", "max" }[given.Function];
        var means = series.ToDictionary(one => one.Pod, one => Ends(given.Width).Select(end =>
            one.Samples.Where(sample => sample.Time > end - given.Width && sample.Time <= end).Select(sample => sample.Value).Average()).ToArray());
        var scores = means.ToDictionary(pair => pair.Key, pair => Fold(given.Function, pair.Value));
        foreach (var (side, sorted) in new[] { ("highest", scores.OrderByDescending(pair => pair.Value)), ("lowest", scores.OrderBy(pair => pair.Value)) })
        {
            var answer = Run($"m -> mean by pod every {given.Width / 1000}s -> {side} {given.Keep} by {word}", reader);
            answer.Series.Select(one => Math.Round(scores[one.Labels["pod"]!], 9)).ShouldBe(sorted.Take(given.Keep).Select(pair => Math.Round(pair.Value, 9)));
            answer.Steps[^1].Left.ShouldBe(Math.Min(given.Keep, series.Length));
        }
    }, iter: 800);
}
