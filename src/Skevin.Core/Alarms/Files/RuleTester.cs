using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Alarms.Files;

/// <summary>How a test went.</summary>
/// <param name="Title">Its title.</param>
/// <param name="Differences">What was otherwise than expected; empty where it passed.</param>
public sealed record TestOutcome(string Title, IReadOnlyList<string> Differences);

/// <summary>Runs tests of rules: the given series through the rule's own enquiry and the machine that judges live.</summary>
public static class RuleTester
{
    // A moment on the grid of every width there is.
    private static readonly long Begin = new DateTimeOffset(2026, 1, 1, 0, 0, 0, TimeSpan.Zero).ToUnixTimeMilliseconds();

    /// <summary>Runs all tests of a file.</summary>
    public static async Task<IReadOnlyList<TestOutcome>> Run(RuleFile file, CancellationToken stop)
    {
        var outcomes = new List<TestOutcome>();
        foreach (var test in file.Tests)
            outcomes.Add(new(test.Title.Length > 0 ? test.Title : test.Rule, await One(file, test, stop)));
        return outcomes;
    }

    private static async Task<IReadOnlyList<string>> One(RuleFile file, RuleTest test, CancellationToken stop)
    {
        if (file.Rules.FirstOrDefault(rule => rule.Rule == test.Rule) is not { } document)
            return [$"There is no rule '{test.Rule}' in the file."];
        if (AlarmRule.Read(document, out var mistakes) is not { } rule)
            return [.. mistakes.Select(mistake => $"{mistake.Field}: {mistake.Message}")];
        if (rule.Enquiry.Parts.Any(part => part.Body.Source is RowSource))
            return ["The rule watches rows; tests give metrics alone."];
        if (document.Usual is not null)
            return ["The rule follows what is usual over weeks; tests give minutes. Replay it in the page."];
        var every = Parser.Duration(test.Every ?? "15s") ?? TimeSpan.Zero;
        if (every < TimeSpan.FromSeconds(1))
            return [$"every is '{test.Every}'; a duration such as 15s is expected."];
        Given given;
        try
        {
            given = new Given(test.Series, (long)every.TotalMilliseconds);
        }
        catch (FormatException wrong)
        {
            return [wrong.Message];
        }
        try
        {
            var answer = await EnquiryRunner.Run(rule.Enquiry, null, new Window(Begin, given.End), new EnquiryReader(given, new NoRows()), new Limits(), stop, rule.Every);
            if (rule.BoundsIn(answer.Unit, out var error) is not { } bounds)
                return [error!];
            return [.. Compare(test.Expect, Replay.Over(rule, bounds, answer))];
        }
        catch (Exception wrong) when (wrong is EnquiryException or LimitException)
        {
            return [wrong.Message];
        }
    }

    private static IEnumerable<string> Compare(IReadOnlyList<ExpectedChange> expected, IReadOnlyList<RaisedStretch> raised)
    {
        var found = raised.SelectMany(stretch => stretch.To is { } to ? new[] { (At: stretch.From, Change: "raised", stretch.Labels), (At: to, Change: "cleared", stretch.Labels) } : [(stretch.From, "raised", stretch.Labels)]).OrderBy(one => one.At).ToList();
        // First what came as it was expected, so that one change does not stand for two.
        var missed = new List<ExpectedChange>();
        foreach (var change in expected)
            if (change.Change is not ("raised" or "cleared") || Time(change.At) is not { } at)
                yield return $"'{change.Change} at {change.At}' is no change: raised or cleared, and a time such as 4m.";
            else if (found.FindIndex(one => one.At == Begin + (long)at.TotalMilliseconds && Fits(change, one.Change, one.Labels)) is >= 0 and var exact)
                found.RemoveAt(exact);
            else
                missed.Add(change);
        foreach (var change in missed)
        {
            var other = found.FindIndex(one => Fits(change, one.Change, one.Labels));
            yield return $"{change.Change} at {change.At} was expected{(other >= 0 ? $"; it was {change.Change} at {After(found[other].At)}" : ", and did not come")}.";
            if (other >= 0)
                found.RemoveAt(other);
        }
        foreach (var (at, change, labels) in found)
            yield return $"{change} at {After(at)} was not expected{(labels.Count > 0 ? $" ({labels})" : "")}.";
    }

    private static bool Fits(ExpectedChange expected, string change, Labels labels) =>
        expected.Change == change && (expected.Labels ?? new Dictionary<string, string>()).All(label => labels[label.Key] == label.Value);

    // Written as it is read: 5m 15s.
    private static string After(long at)
    {
        var time = TimeSpan.FromMilliseconds(at - Begin);
        var parts = new[] { ((int)time.TotalHours, "h"), (time.Minutes, "m"), (time.Seconds, "s") }.Where(part => part.Item1 > 0).Select(part => $"{part.Item1}{part.Item2}").ToArray();
        return parts.Length == 0 ? "0" : string.Join(' ', parts);
    }

    private static TimeSpan? Time(string text)
    {
        var parts = text.Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(Parser.Duration).ToArray();
        return parts.Length == 0 || parts.Contains(null) ? null : parts.Aggregate(TimeSpan.Zero, (sum, part) => sum + part!.Value);
    }

    private sealed class Given : ISeriesReader
    {
        private readonly (SeriesKey Key, Sample[] Samples)[] _series;

        public Given(IReadOnlyList<GivenSeries> series, long every)
        {
            if (series.Count == 0)
                throw new FormatException("The test gives no series.");
            _series = [.. series.Select(one => (
                new SeriesKey(one.Metric, one.Counter ? SeriesKind.Counter : SeriesKind.Gauge, one.Unit, Labels.From(one.Labels)),
                GivenValues.Read(one.Values).Select((value, i) => new Sample(Begin + (i + 1) * every, value)).Where(sample => !double.IsNaN(sample.Value)).ToArray()))];
            End = Begin + series.Max(one => GivenValues.Read(one.Values).Length) * every;
        }

        public long End { get; }

        public IEnumerable<string> Metrics() => _series.Select(one => one.Key.Metric).Distinct();

        public Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop) =>
            Task.FromResult<IReadOnlyList<StoredSeries>>([.. _series.Select((one, i) => new StoredSeries(i, 1, one.Key)).Where(one => one.Key.Metric == metric)]);

        public Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop) =>
            Task.FromResult<IReadOnlyList<Sample[]>>([.. series.Select(one => _series[one.Id].Samples.Where(sample => sample.Time > from && sample.Time <= to).ToArray())]);
    }

    private sealed class NoRows : IRowReader
    {
        public async IAsyncEnumerable<RowBatch> Rows(RowKind kind, long from, long to, RowHints hints, [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken stop)
        {
            await Task.CompletedTask;
            yield break;
        }

        public Task<IReadOnlySet<long>> Arriving(RowKind kind, long from, long to, CancellationToken stop) => Task.FromResult<IReadOnlySet<long>>(new HashSet<long>());
    }
}
