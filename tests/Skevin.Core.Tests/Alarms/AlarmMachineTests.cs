using CsCheck;
using Skevin.Core.Alarms;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Alarms;

public sealed class AlarmMachineTests
{
    private const long Minute = 60_000;

    private static (AlarmRule Rule, Bounds Bounds) Rule(string? above = "400", string? below = null, string? hold = null, ClearDocument? clear = null, MissingData missing = MissingData.Keep)
    {
        var rule = AlarmRule.Read(new RuleDocument("Ledger replies slowly", "latency -> max every 1m", above, below, null, hold, clear, Missing: missing), out var mistakes);
        mistakes.ShouldBeEmpty();
        var bounds = rule!.BoundsIn("s", out var error);
        error.ShouldBeNull();
        return (rule, bounds!);
    }

    private static List<(AlarmState State, AlarmTransition Transition)> Judge((AlarmRule Rule, Bounds Bounds) with, params double[] values)
    {
        var status = AlarmStatus.Quiet;
        var states = new List<(AlarmState, AlarmTransition)>();
        for (var i = 0; i < values.Length; i++)
        {
            (status, var transition) = AlarmMachine.Judge(status, values[i], (i + 1) * Minute, Minute, with.Rule, with.Bounds);
            states.Add((status.State, transition));
        }
        return states;
    }

    [Fact]
    public void Without_hold_one_slot_beyond_raises_and_one_within_clears() =>
        Judge(Rule(), 120, 450, 460, 120).ShouldBe(
        [
            (AlarmState.Quiet, AlarmTransition.None), (AlarmState.Raised, AlarmTransition.Raised), (AlarmState.Raised, AlarmTransition.None), (AlarmState.Quiet, AlarmTransition.Cleared),
        ]);

    [Fact]
    public void A_hold_of_three_minutes_takes_three_slots_of_a_minute() =>
        Judge(Rule(hold: "3m"), 450, 450, 450).Select(step => step.State).ShouldBe([AlarmState.Holding, AlarmState.Holding, AlarmState.Raised]);

    [Fact]
    public void A_dip_starts_the_hold_again() =>
        Judge(Rule(hold: "2m"), 450, 120, 450, 450).Select(step => step.State).ShouldBe([AlarmState.Holding, AlarmState.Quiet, AlarmState.Holding, AlarmState.Raised]);

    [Fact]
    public void Between_the_bounds_a_raised_alarm_stays_and_clearing_must_hold() =>
        Judge(Rule(clear: new ClearDocument(Below: "300", Hold: "2m")), 450, 350, 250, 350, 250, 250).Select(step => step.State).ShouldBe(
            [AlarmState.Raised, AlarmState.Raised, AlarmState.Clearing, AlarmState.Raised, AlarmState.Clearing, AlarmState.Quiet]);

    [Theory]
    [InlineData(MissingData.Keep, AlarmState.Raised, AlarmState.Quiet)]
    [InlineData(MissingData.Raise, AlarmState.Raised, AlarmState.Raised)]
    [InlineData(MissingData.Clear, AlarmState.Quiet, AlarmState.Quiet)]
    public void Missing_data_means_what_the_rule_says(MissingData missing, AlarmState afterRaised, AlarmState afterQuiet)
    {
        Judge(Rule(missing: missing), 450, double.NaN)[1].State.ShouldBe(afterRaised);
        Judge(Rule(missing: missing), 100, double.NaN)[1].State.ShouldBe(afterQuiet);
    }

    [Fact]
    public void Below_is_the_mirror_of_above() =>
        Judge(Rule(above: null, below: "2", clear: new ClearDocument(Above: "3")), 5, 1, 2.5, 4).Select(step => step.State).ShouldBe(
            [AlarmState.Quiet, AlarmState.Raised, AlarmState.Raised, AlarmState.Quiet]);

    [Fact]
    public void The_worst_value_since_it_was_raised_is_kept()
    {
        var (rule, bounds) = Rule();
        var status = AlarmStatus.Quiet;
        foreach (var (value, i) in new[] { 450.0, 700, 500 }.Select((value, i) => (value, i)))
            status = AlarmMachine.Judge(status, value, (i + 1) * Minute, Minute, rule, bounds).Status;
        status.Worst.ShouldBe(700);
        status.RaisedAt.ShouldBe(Minute);
    }

    [Fact]
    public void Transitions_alternate_and_agree_with_the_state()
    {
        // Model: raised exactly between a Raised and the next Cleared transition, whatever comes in.
        var values = Gen.OneOf(Gen.Double[0, 800], Gen.Const(double.NaN)).Array[1, 60];
        Gen.Select(values, Gen.Int[0, 4], Gen.Int[0, 4], Gen.Enum<MissingData>()).Sample((series, hold, clearHold, missing) =>
        {
            var states = Judge(Rule(hold: $"{hold * 30 + 1}s", clear: new ClearDocument(Below: "300", Hold: $"{clearHold * 30 + 1}s"), missing: missing), series);
            var raised = false;
            foreach (var (state, transition) in states)
            {
                if (transition != AlarmTransition.None)
                {
                    (transition == AlarmTransition.Raised).ShouldBe(!raised);
                    raised = transition == AlarmTransition.Raised;
                }
                (state is AlarmState.Raised or AlarmState.Clearing).ShouldBe(raised);
            }
        }, iter: 5_000);
    }

    [Fact]
    public void Replay_judges_with_the_same_code()
    {
        var with = Rule(hold: "2m");
        double[] values = [450, 460, 120, 450, 450, 450];
        var answer = new Answer("s", TimeSpan.FromMinutes(1), Minute, [new AnswerSeries(Labels.None, values)], [], []);
        var stretches = Replay.Over(with.Rule, with.Bounds, answer);
        stretches.Select(stretch => (stretch.From, stretch.To, stretch.Worst)).ShouldBe([(2 * Minute, 3 * Minute, 460), (5 * Minute, null, 450)]);
    }

    [Theory]
    [InlineData(null, null, "one of above, below, outside and usual")]
    [InlineData("1", "2", "one of above, below, outside and usual")]
    public void A_rule_has_one_kind_of_bound(string? above, string? below, string says)
    {
        AlarmRule.Read(new RuleDocument("r", "a", above, below), out var mistakes).ShouldBeNull();
        mistakes.ShouldContain(mistake => mistake.Message.Contains(says));
    }

    [Fact]
    public void Mistakes_name_their_field()
    {
        AlarmRule.Read(new RuleDocument("", "a -> rat", "1", Hold: "soon", Wait: "x"), out var mistakes).ShouldBeNull();
        mistakes.Select(mistake => mistake.Field).ShouldBe(["rule", "when", "hold", "wait"], ignoreOrder: true);
    }

    [Fact]
    public void A_clearing_bound_beyond_the_raising_bound_is_refused()
    {
        var rule = AlarmRule.Read(new RuleDocument("r", "a", "400ms", Clear: new ClearDocument(Below: "500ms")), out _)!;
        rule.BoundsIn("s", out var error).ShouldBeNull();
        error.ShouldNotBeNull().ShouldContain("raised and cleared at once");
    }

    [Fact]
    public void A_rule_on_rows_counts_them_and_is_judged_by_the_minute()
    {
        AlarmRule.Read(new RuleDocument("r", "logs -> where level = \"error\"", "5"), out var mistakes).ShouldBeNull();
        mistakes.ShouldHaveSingleItem().ShouldSatisfyAllConditions(mistake => mistake.Field.ShouldBe("when"), mistake => mistake.Message.ShouldContain("-> count"));
        AlarmRule.Read(new RuleDocument("r", "logs -> where level = \"error\" -> count", "5"), out _)!.Every.ShouldBe(TimeSpan.FromMinutes(1));
        AlarmRule.Read(new RuleDocument("r", "e: spans -> where status = \"error\" -> count; a: spans -> count; e / a", "5%"), out _)!.Every.ShouldBe(TimeSpan.FromMinutes(1));
        AlarmRule.Read(new RuleDocument("r", "cpu -> max", "5"), out _)!.Every.ShouldBe(TimeSpan.FromSeconds(15));
    }
}
