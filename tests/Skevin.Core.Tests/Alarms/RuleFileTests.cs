using CsCheck;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Files;

namespace Skevin.Core.Tests.Alarms;

public sealed class RuleFileTests
{
    private static readonly string Example = File.ReadAllText(Path.Combine(Repository.Root, "docs/formats/rule-file.yaml"));

    [Fact]
    public async Task The_example_is_read_and_its_tests_pass()
    {
        var file = RuleFile.Read(Example);
        file.Problems().ShouldBeEmpty();
        file.Rules[0].ShouldSatisfyAllConditions(rule => rule.Clear.ShouldBe(new ClearDocument(null, "400MiB")), rule => rule.Severity.ShouldBe(Severity.Major), rule => rule.Tell.ShouldBe(["auction-duty"]), rule => rule.Missing.ShouldBe(MissingData.Keep));
        var outcomes = await RuleTester.Run(file, CancellationToken.None);
        outcomes.Count.ShouldBe(3);
        outcomes.ShouldAllBe(outcome => outcome.Differences.Count == 0, string.Join("\n", outcomes.SelectMany(outcome => outcome.Differences)));
    }

    [Theory]
    // Each turns one thing of the example wrong; the words say what differs.
    [InlineData("at: 3m, change: raised", "at: 2m, change: raised", "raised at 2m was expected; it was raised at 3m.")]
    [InlineData("pod: ledger-1}", "pod: ledger-9}", "raised at 3m was expected, and did not come.|raised at 3m was not expected (namespace=auction, pod=ledger-1).")]
    // What comes a second time is not covered by the first.
    [InlineData("430e6 x4, 300e6 x4", "430e6 x4, 300e6 x4, 480e6 x9", "raised at 8m was not expected (namespace=auction, pod=ledger-1).")]
    [InlineData("expect: []", "expect: [{at: 1m, change: raised}]", "raised at 1m was expected, and did not come.")]
    [InlineData("      - {at: 3m 30s, change: cleared}", "", "cleared at 3m 30s was not expected.")]
    [InlineData("change: cleared}\n  - title: a short", "change: gone}\n  - title: a short", "'gone at 5m 15s' is no change: raised or cleared, and a time such as 4m.|cleared at 5m 15s was not expected (namespace=auction, pod=ledger-1).")]
    [InlineData("300e6 x4, none x8, 300e6 x4", "300e6 x4, few x8", "'few x8' is no value: write 100, 100 x8, none x2 or 100..500 x10, at most 100,000 in all.")]
    [InlineData("rule: Gatehouse turns buyers away\n    series", "rule: Nobody\n    series", "There is no rule 'Nobody' in the file.")]
    [InlineData("above: 440MiB", "above: 440ms", "'440ms' is in s, but the enquiry is in By|'440ms' is in s, but the enquiry is in By")]
    public async Task A_test_that_fails_says_what_differs(string right, string wrong, string says)
    {
        var text = Example.Replace("\r", "");
        text.ShouldContain(right);
        var differences = (await RuleTester.Run(RuleFile.Read(text.Replace(right, wrong)), CancellationToken.None)).SelectMany(outcome => outcome.Differences).ToArray();
        foreach (var one in says.Split('|'))
            differences.ShouldContain(found => found.Contains(one), string.Join("\n", differences));
        differences.Length.ShouldBe(says.Split('|').Length);
    }

    [Theory]
    [InlineData("", "The file is empty. It begins with rules:.")]
    [InlineData("rules:\n  - rule: a\n    wenn: b\n", "Line 3, column 5: there is no 'wenn' here; a rule has rule, when,")]
    [InlineData("rules:\n  - rule: a\n    clear: {under: b}\n", "clear has above, below and hold")]
    [InlineData("tests:\n  - title: a\n    expect: [{when: 4m}]\n", "a change has at, change and labels")]
    [InlineData("rules:\n  - {rule: a, severity: bad}\n", "Rule 'a': severity is 'bad'; one of warning, minor, major, critical is expected.")]
    [InlineData("rules: [", "Line 2, column 1")]
    public void A_file_that_is_none_says_where(string text, string says) => Should.Throw<FormatException>(() => RuleFile.Read(text)).Message.ShouldContain(says);

    [Fact]
    public void Rules_that_cannot_be_put_in_force_are_named()
    {
        var problems = RuleFile.Read("rules:\n  - {rule: a, when: memory, above: 1}\n  - {rule: a, when: memory, above: 1}\n  - {rule: b, when: 'memory -> ', hold: soon}\n").Problems().ToArray();
        problems.Select(problem => problem.Rule).Distinct().ShouldBe(["b", "a"], ignoreOrder: true);
        problems.ShouldContain(problem => problem.Message == "Two rules have this name.");
        problems.ShouldContain(problem => problem.Message.StartsWith("hold:"));
    }

    [Fact]
    public void Values_are_read_as_they_are_written()
    {
        GivenValues.Read("1, 2 x2, none x2, 1..3 x3, -1e-3").ShouldBe([1, 2, 2, double.NaN, double.NaN, 1, 2, 3, -0.001]);
        Should.Throw<FormatException>(() => GivenValues.Read("1 x0"));
        Should.Throw<FormatException>(() => GivenValues.Read("1 x99999, 1 x2"));
        Should.Throw<FormatException>(() => GivenValues.Read(" , "));
    }

    [Fact]
    public void Any_text_is_values_or_a_format_exception() => Gen.String[Gen.Char["0123456789.x, none+-eE"], 0, 40].Sample(text =>
    {
        try
        {
            GivenValues.Read(text).Length.ShouldBeGreaterThan(0);
        }
        catch (FormatException)
        {
            // Said in words.
        }
    });

    [Fact]
    public void Any_text_is_a_file_or_a_format_exception() => Gen.String[Gen.Char["rules:\n -{}[]'\"ab&*!%@#|>1"], 0, 60].Sample(text =>
    {
        try
        {
            RuleFile.Read(text);
        }
        catch (FormatException)
        {
            // Said in words.
        }
    });
}
