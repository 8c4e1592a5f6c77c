using CsCheck;
using Skevin.Core.Alarms;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Tests.Query;
using Skevin.Core.Traces;

namespace Skevin.Core.Tests.Alarms;

public sealed class ErrorBudgetTests
{
    private static readonly Objective Ledger = new("Ledger answers", "service = \"ledger\"", "status = \"error\" or duration > 400ms", 0.999, 30);

    [Theory]
    // The Site Reliability Workbook, chapter 5, table 5-8 "Recommended parameters for a 99.9 % objective": long window, short window, burn rate, budget consumed.
    [InlineData(0, 60, 5, 14.4, 0.02)]
    [InlineData(1, 360, 30, 6, 0.05)]
    [InlineData(2, 4320, 360, 1, 0.10)]
    public void The_windows_and_burn_rates_are_the_published_ones(int at, int longMinutes, int shortMinutes, double burn, double spent)
    {
        var window = ErrorBudget.Windows[at];
        (window.Long.TotalMinutes, window.Short.TotalMinutes, window.Spent).ShouldBe((longMinutes, shortMinutes, spent));
        window.Burn(30).ShouldBe(burn, 1e-9);
        // A window full of that pace takes that share of a budget: pace × window ÷ period.
        (burn * (window.Long / TimeSpan.FromDays(30))).ShouldBe(spent, 1e-9);
    }

    [Fact]
    public void Its_rules_are_rules()
    {
        var rules = ErrorBudget.Rules(Ledger, "larkfield-north", ["on-duty"]);
        rules.Select(rule => (rule.Above, rule.Severity)).ShouldBe([("14.4", Severity.Critical), ("6", Severity.Major), ("1", Severity.Minor)]);
        foreach (var rule in rules)
        {
            var read = AlarmRule.Read(rule, out var mistakes);
            mistakes.ShouldBeEmpty();
            read!.BoundsIn("1", out _)!.Above.ShouldBe(double.Parse(rule.Above!, System.Globalization.CultureInfo.InvariantCulture));
        }
        ErrorBudget.Rules(Ledger with { Days = 3 }, null, null).Count.ShouldBe(2);
    }

    [Theory]
    [InlineData("", 30, 0.999, "name")]
    [InlineData("a", 0, 0.999, "1 to 90 days")]
    [InlineData("a", 30, 1.0, "100 %")]
    [InlineData("a", 30, 0.999, null)]
    public void An_objective_that_cannot_be_kept_is_refused(string name, int days, double share, string? says)
    {
        var problem = ErrorBudget.Problem(Ledger with { Name = name, Days = days, Share = share });
        (problem ?? "").ShouldContain(says ?? "");
        (problem is null).ShouldBe(says is null);
        ErrorBudget.Problem(Ledger with { Bad = "status =" })!.ShouldContain("which of them are bad");
    }

    [Fact]
    public async Task The_burn_rate_is_over_a_bound_only_where_both_windows_are()
    {
        // Ten requests a minute for two hours; from minute 60 to 66 all fail. Reckoned by hand: the hour's share of failures is n/60 at most, the five minutes' n/5.
        var objective = new Objective("x", "service = \"ledger\"", "status = \"error\"", 0.99, 30);
        var spans = Enumerable.Range(0, 120).SelectMany(minute => Enumerable.Range(0, 10).Select(i => new Span(new TraceId(1, (ulong)(minute * 10 + i + 1)), 1, 0, "n", SpanKind.Server, (minute * 60 + i * 6 + 1) * 1_000_000_000L, 1_000_000,
            minute is >= 60 and < 66 ? SpanStatus.Error : SpanStatus.Ok, "", 1, Labels.From([new("service.name", "ledger")]), Labels.None, []))).ToArray();
        var answer = await EnquiryRunner.Run(Parser.Read(ErrorBudget.BurnRate(objective, ErrorBudget.Windows[0])), null, new Window(0, 7_200_000), new EnquiryReader(new NoSeries(), new FixedRows((RowKind.Spans, spans))), new Limits(), default);
        var values = answer.Series.Single().Values;
        double After(int minutes) => values[(int)((minutes * 60_000L - answer.FirstEnd) / 60_000)];
        After(66).ShouldBe(Math.Min(6 / 60.0, 1) / 0.01, 1e-9);
        // The hour still holds all six; of the last five minutes none failed.
        After(72).ShouldBe(0, 1e-9);
        After(68).ShouldBe(Math.Min(6 / 60.0, 3 / 5.0) / 0.01, 1e-9);
    }

    [Fact]
    public void The_state_of_a_budget_agrees_with_its_course_and_with_the_promise() => Gen.Select(Gen.Int[0, 5000], Gen.Int[0, 5000]).Select((all, bad) => ((double)(all + bad), (double)Math.Min(bad, all + bad))).Array[1, 100].Sample(hours =>
    {
        var (all, bad) = (hours.Select(hour => hour.Item1).ToArray(), hours.Select(hour => hour.Item2).ToArray());
        var state = ErrorBudget.State(Ledger, all, bad, (all[^1], bad[^1]));
        if (state.Counted == 0)
            return;
        ErrorBudget.Course(Ledger, all, bad)[^1].ShouldBe(state.Left, 1e-9 * Math.Max(1, Math.Abs(state.Left)));
        // Something is left where the promise was kept, and only there.
        (state.Left >= 0).ShouldBe(state.Bad <= state.Counted * (1 - Ledger.Share));
        if (state.Left > 0 && state.Burn > 0)
            (state.DaysToEmpty * state.Burn / Ledger.Days).ShouldBe(state.Left, 1e-9);
    });

    [Fact]
    public void Least_and_greatest_are_written_as_they_are_read_and_keep_units()
    {
        const string text = "a: m\n  -> mean\nb: m\n  -> max\nleast(a + b, greatest(a, b)) * 2";
        Formatter.Write(Parser.Read(text)).ShouldBe(text);
        Should.Throw<EnquiryException>(() => Parser.Read("a: m -> mean\nleast(a)")).Error.Message.ShouldContain("two values");
    }
}
