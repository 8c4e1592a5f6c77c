using Skevin.Core.Formats;

namespace Skevin.Core.Alarms.Files;

/// <summary>Values a test gives a metric.</summary>
/// <param name="Metric">Its name.</param>
/// <param name="Unit">UCUM unit; <c>1</c> where it is not said.</param>
/// <param name="Counter">Whether it only rises.</param>
/// <param name="Labels">Attributes of the series.</param>
/// <param name="Values">For example <c>100e6 x8, none x2, 100e6..500e6 x10</c>; see <see cref="GivenValues"/>.</param>
public sealed record GivenSeries(string Metric, string Unit, bool Counter, IReadOnlyDictionary<string, string> Labels, string Values);

/// <summary>A change a test expects.</summary>
/// <param name="At">Time since the beginning of the test, for example <c>4m</c>.</param>
/// <param name="Change">raised or cleared.</param>
/// <param name="Labels">Labels the alarm has, among others; null for any.</param>
public sealed record ExpectedChange(string At, string Change, IReadOnlyDictionary<string, string>? Labels);

/// <summary>A test of a rule.</summary>
/// <param name="Title">What it shows.</param>
/// <param name="Rule">Name of the rule.</param>
/// <param name="Every">Spacing of the samples; 15 s where it is not said.</param>
/// <param name="Series">What is given.</param>
/// <param name="Expect">All changes there are to be, in order of time.</param>
public sealed record RuleTest(string Title, string Rule, string? Every, IReadOnlyList<GivenSeries> Series, IReadOnlyList<ExpectedChange> Expect);

/// <summary>Rules and their tests as a file: YAML, of which JSON is a part. The form is described in docs/formats/rule-file.md.</summary>
/// <param name="Rules">The rules, as in the API.</param>
/// <param name="Tests">Their tests.</param>
public sealed record RuleFile(IReadOnlyList<RuleDocument> Rules, IReadOnlyList<RuleTest> Tests)
{
    /// <summary>Most characters of a file.</summary>
    public const int Longest = 1_000_000;

    private sealed class Document
    {
        public List<RulePart?>? Rules { get; set; }
        public List<TestPart?>? Tests { get; set; }
    }

    private sealed class RulePart
    {
        public string? Rule { get; set; }
        public string? When { get; set; }
        public string? Above { get; set; }
        public string? Below { get; set; }
        public List<string>? Outside { get; set; }
        public string? Hold { get; set; }
        public ClearPart? Clear { get; set; }
        public string? Severity { get; set; }
        public string? Missing { get; set; }
        public string? Wait { get; set; }
        public string? Every { get; set; }
        public List<string>? Tell { get; set; }
        public string? Runbook { get; set; }
        public string? Cluster { get; set; }
        public UsualPart? Usual { get; set; }
    }

    private sealed class UsualPart
    {
        public string? Side { get; set; }
        public double? Spreads { get; set; }
        public int? Weeks { get; set; }
    }

    private sealed class ClearPart
    {
        public string? Above { get; set; }
        public string? Below { get; set; }
        public string? Hold { get; set; }
    }

    private sealed class TestPart
    {
        public string? Title { get; set; }
        public string? Rule { get; set; }
        public string? Every { get; set; }
        public List<SeriesPart?>? Series { get; set; }
        public List<ChangePart?>? Expect { get; set; }
    }

    private sealed class SeriesPart
    {
        public string? Metric { get; set; }
        public string? Unit { get; set; }
        public string? Kind { get; set; }
        public Dictionary<string, string>? Labels { get; set; }
        public string? Values { get; set; }
    }

    private sealed class ChangePart
    {
        public string? At { get; set; }
        public string? Change { get; set; }
        public Dictionary<string, string>? Labels { get; set; }
    }

    private static readonly Dictionary<string, string> Has = new()
    {
        ["Document"] = "a file has rules and tests", ["RulePart"] = "a rule has rule, when, above, below, outside, usual, hold, clear, severity, missing, wait, every, tell, runbook and cluster", ["UsualPart"] = "usual has side, spreads and weeks", ["ClearPart"] = "clear has above, below and hold",
        ["TestPart"] = "a test has title, rule, every, series and expect", ["SeriesPart"] = "a series has metric, unit, kind, labels and values", ["ChangePart"] = "a change has at, change and labels",
    };

    /// <summary>Reads a file.</summary>
    /// <exception cref="FormatException">The text is no such file; the message says where.</exception>
    public static RuleFile Read(string text)
    {
        var read = YamlFile.Read<Document>(text, Longest, "rules:", Has);
        static T Word<T>(string? word, T otherwise, string rule, string field) where T : struct, Enum => word is null ? otherwise
            : Enum.TryParse<T>(word, true, out var value) && Enum.IsDefined(value) && !char.IsDigit(word[0]) ? value
            : throw new FormatException($"Rule '{rule}': {field} is '{word}'; one of {string.Join(", ", Enum.GetNames<T>().Select(name => name.ToLowerInvariant()))} is expected.");
        return new(
            [
                .. (read.Rules ?? []).Select(rule => rule ?? new RulePart()).Select(rule => new RuleDocument(
                    rule.Rule ?? "", rule.When ?? "", rule.Above, rule.Below, rule.Outside, rule.Hold, rule.Clear is { } clear ? new ClearDocument(clear.Above, clear.Below, clear.Hold) : null,
                    Word(rule.Severity, Severity.Major, rule.Rule ?? "", "severity"), Word(rule.Missing, MissingData.Keep, rule.Rule ?? "", "missing"), rule.Wait, rule.Every, rule.Tell, rule.Runbook, rule.Cluster,
                    rule.Usual is { } usual ? new UsualDocument(Word(usual.Side, UsualSide.High, rule.Rule ?? "", "side"), usual.Spreads ?? new UsualDocument().Spreads, usual.Weeks ?? new UsualDocument().Weeks) : null)),
            ],
            [
                .. (read.Tests ?? []).Select(test => test ?? new TestPart()).Select(test => new RuleTest(
                    test.Title ?? "", test.Rule ?? "", test.Every,
                    [.. (test.Series ?? []).Select(given => given ?? new SeriesPart()).Select(given => new GivenSeries(given.Metric ?? "", given.Unit ?? "1", given.Kind == "counter", given.Labels ?? [], given.Values ?? ""))],
                    [.. (test.Expect ?? []).Select(change => change ?? new ChangePart()).Select(change => new ExpectedChange(change.At ?? "", change.Change ?? "", change.Labels))])),
            ]);
    }

    /// <summary>What is wrong with the rules by themselves, each by its rule; empty where all can be put in force.</summary>
    public IEnumerable<(string Rule, string Message)> Problems()
    {
        foreach (var rule in Rules)
        {
            AlarmRule.Read(rule, out var mistakes);
            foreach (var mistake in mistakes)
                yield return (rule.Rule, $"{mistake.Field}: {mistake.Message}");
        }
        foreach (var same in Rules.GroupBy(rule => (rule.Rule, rule.Cluster)).Where(group => group.Count() > 1))
            yield return (same.Key.Rule, "Two rules have this name.");
    }
}
