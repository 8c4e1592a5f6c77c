using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Drills;

namespace Skevin.Core.Tests.Alarms;

/// <summary>The chain of a drill: what it could take at least, what is done next, and where it broke.</summary>
public sealed class DrillTests
{
    private static readonly DateTimeOffset Fault = new(2026, 5, 12, 6, 0, 7, TimeSpan.Zero);
    private static readonly DrillSight Nothing = new(null, 0, 0, 0, null, []);

    private static AlarmRule Rule(string hold = "1m", string? clear = null) =>
        AlarmRule.Read(new RuleDocument("slow", "traces -> count every 15s", Above: "3", Hold: hold, Wait: "10s", Clear: clear is null ? null : new ClearDocument(Hold: clear)), out _)!;

    // By hand: the fault at 6:00:07 lies in the slot that ends at 6:00:15; a hold of 1 min takes four slots of 15 s, the last ends at 6:01:00, judged 10 s later.
    [Theory]
    [InlineData("1m", 63)]
    [InlineData("0", 18)]
    [InlineData("20s", 33)]
    public void The_least_follows_from_slot_hold_and_wait(string hold, double seconds) => DrillChain.Least(Rule(hold), Fault, Rule(hold).Hold).TotalSeconds.ShouldBe(seconds);

    /// <summary>No value, whatever it is, raises a live rule sooner than that: the state machine itself is asked.</summary>
    [Fact]
    public void The_state_machine_raises_at_the_least_and_not_before()
    {
        foreach (var hold in new[] { "0", "20s", "1m", "3m" })
        {
            var rule = Rule(hold);
            var (status, end) = (AlarmStatus.Quiet, Fault.ToUnixTimeMilliseconds() / 15_000 * 15_000);
            AlarmTransition transition;
            do
            {
                end += 15_000;
                (status, transition) = AlarmMachine.Judge(status, 5, end, 15_000, rule, new Bounds(3, null, 3, null));
            }
            while (transition == AlarmTransition.None);
            (DateTimeOffset.FromUnixTimeMilliseconds(end) + rule.Wait - Fault).ShouldBe(DrillChain.Least(rule, Fault, rule.Hold));
        }
    }

    [Fact]
    public void A_drill_waits_takes_the_fault_away_and_ends()
    {
        var rule = Rule();
        var times = new DrillTimes(Fault);
        DrillChain.Next(times, rule, false, Fault.AddMinutes(1)).ShouldBeNull();
        DrillChain.Next(times, rule, false, Fault.AddMinutes(5)).ShouldBe(DrillAct.TakeFaultAway, "it was not raised in time");
        times = times with { Raised = Fault.AddSeconds(64) };
        DrillChain.Next(times, rule, false, Fault.AddSeconds(65)).ShouldBeNull("the message is waited for");
        DrillChain.Next(times, rule, true, Fault.AddSeconds(65)).ShouldBe(DrillAct.TakeFaultAway, "nobody is told");
        times = times with { Told = Fault.AddSeconds(65), FaultOver = Fault.AddSeconds(66) };
        DrillChain.Next(times, rule, false, Fault.AddSeconds(70)).ShouldBeNull();
        times = times with { Cleared = Fault.AddSeconds(90) };
        DrillChain.Next(times, rule, false, Fault.AddSeconds(91)).ShouldBeNull();
        DrillChain.Next(times with { ToldOver = Fault.AddSeconds(92) }, rule, false, Fault.AddSeconds(92)).ShouldBe(DrillAct.End);
        DrillChain.Next(times with { Cleared = null }, rule, false, Fault.AddMinutes(6)).ShouldBe(DrillAct.End, "it was never cleared");
    }

    [Fact]
    public void Where_the_chain_broke_is_told_with_what_was_seen()
    {
        string? Said(DrillHop hop, DrillTimes times, DrillSight sight) => DrillChain.Hops(times, Rule(), sight, true).Single(one => one.Hop == hop).Said;
        var put = new DrillTimes(Fault, FaultOver: Fault.AddMinutes(5));
        Said(DrillHop.Beyond, put, Nothing)!.ShouldContain("No slot");
        Said(DrillHop.Beyond, put, Nothing with { Slots = 9 })!.ShouldContain("no values");
        Said(DrillHop.Beyond, put, Nothing with { Slots = 9, Values = 9, Nearest = 2.5 })!.ShouldContain("nearest was 2.5");
        Said(DrillHop.Beyond, put, Nothing with { Trouble = "there is no metric 'x'" })!.ShouldContain("no metric 'x'");
        Said(DrillHop.Raised, put with { Beyond = Fault.AddSeconds(8) }, Nothing with { Slots = 9, Values = 9, LongestBeyond = 2 })!.ShouldContain("2 slots of 15s, and must be for 1m");
        var raised = put with { Beyond = Fault.AddSeconds(8), Raised = Fault.AddSeconds(63), Cleared = Fault.AddMinutes(6) };
        Said(DrillHop.Told, raised, Nothing)!.ShouldContain("tells nobody");
        Said(DrillHop.Told, raised, Nothing with { Recipients = ["chat: answered 500"] })!.ShouldContain("chat: answered 500");
        DrillChain.Hops(raised, Rule(), Nothing, true).Single(one => one.Hop == DrillHop.ToldOver).State.ShouldBe(HopState.Skipped);
        Said(DrillHop.Cleared, raised with { Told = Fault.AddSeconds(64), Cleared = null }, Nothing)!.ShouldContain("still stands");
        // What was not tried says so, and only the first broken hop says why.
        var hops = DrillChain.Hops(put, Rule(), Nothing, true);
        hops.Count(hop => hop.Said is not null).ShouldBe(1);
        hops.Select(hop => hop.State).ShouldBe([HopState.Done, HopState.Broken, HopState.Skipped, HopState.Skipped, HopState.Done, HopState.Skipped, HopState.Skipped]);
    }

    [Fact]
    public void Slots_are_summed_up_by_series()
    {
        SlotVerdict[] Slot(double? a, AlarmState ofA, double? b, AlarmState ofB) => [new("a", a, ofA), new("b", b, ofB)];
        var seen = DrillSights.Of([(1, Slot(1, AlarmState.Quiet, null, AlarmState.Quiet)), (2, Slot(5, AlarmState.Holding, 4, AlarmState.Holding)), (3, Slot(6, AlarmState.Raised, 1, AlarmState.Quiet)), (4, Slot(1, AlarmState.Clearing, 7, AlarmState.Holding))], below: false);
        (seen.Slots, seen.Values, seen.LongestBeyond, seen.FirstBeyond, seen.Nearest).ShouldBe((4, 4, 2, 2, 7));
        DrillSights.Of([(1, Slot(3, AlarmState.Quiet, 2, AlarmState.Quiet))], below: true).Nearest.ShouldBe(2);
    }
}
