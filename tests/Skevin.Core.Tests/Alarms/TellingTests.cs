using CsCheck;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Telling;

namespace Skevin.Core.Tests.Alarms;

/// <summary>Who is on duty and who is told when, over changes of the clock. Dates of the changes: EU directive 2000/84/EC, last Sundays of March and October at 01:00 UTC.</summary>
public sealed class TellingTests
{
    private static readonly TimeZoneInfo Berlin = TimeZoneInfo.FindSystemTimeZoneById("Europe/Berlin");
    private static readonly string[] People = ["amsel", "linnet", "pipit"];

    private static DateTimeOffset Utc(string text) => DateTimeOffset.Parse(text + "Z", System.Globalization.CultureInfo.InvariantCulture);

    private static Rota Weekly(params Shift[] instead) => new(People, 7, new DateOnly(2026, 3, 23), new TimeSpan(9, 0, 0), Berlin, instead);

    [Theory]
    // Monday 09:00 in Berlin is 08:00 UTC in winter, 07:00 in summer; the clock changed on Sunday the 29th.
    [InlineData("2026-03-23T07:59:59", "pipit")]
    [InlineData("2026-03-23T08:00:00", "amsel")]
    [InlineData("2026-03-30T06:59:59", "amsel")]
    [InlineData("2026-03-30T07:00:00", "linnet")]
    [InlineData("2026-04-06T07:00:00", "pipit")]
    [InlineData("2026-10-26T07:59:59", "amsel")]
    [InlineData("2026-10-26T08:00:00", "linnet")]
    [InlineData("2026-03-09T08:00:00", "linnet")]
    public void Turns_change_at_the_same_time_on_the_wall(string at, string person) => Weekly().On(Utc(at)).ShouldBe(person);

    [Theory]
    // 02:30 does not come on 29 March 2026: the turn begins with the change, 01:00 UTC. On 25 October it comes twice: the first holds.
    [InlineData("2026-03-29T00:59:59", "amsel")]
    [InlineData("2026-03-29T01:00:00", "linnet")]
    [InlineData("2026-10-25T00:29:59", "amsel")]
    [InlineData("2026-10-25T00:30:00", "linnet")]
    [InlineData("2026-10-25T01:30:00", "linnet")]
    public void A_hand_over_at_a_time_that_is_left_out_or_comes_twice_happens_once(string at, string person)
    {
        var date = DateOnly.FromDateTime(Utc(at).DateTime);
        new Rota(["amsel", "linnet"], 1, date.AddDays(-1), new TimeSpan(2, 30, 0), Berlin, []).On(Utc(at)).ShouldBe(person);
    }

    [Fact]
    public void Shifts_follow_each_other_without_gap_and_say_who_is_on_duty() =>
        Gen.Select(Gen.Int[1, 9], Gen.Int[0, 47], Gen.Long[0, 400 * 24], Gen.Int[1, 60 * 24], Gen.Select(Gen.Int[0, 2], Gen.Long[0, 400 * 24], Gen.Int[1, 200]).Array[0, 4]).Sample((days, halfHours, fromHour, hours, taken) =>
        {
            var begin = Utc("2026-01-01T00:00:00");
            var rota = new Rota(People, days, new DateOnly(2026, 2, 3), TimeSpan.FromMinutes(30 * halfHours), Berlin, [.. taken.Select(one => new Shift(begin.AddHours(one.Item2), begin.AddHours(one.Item2 + one.Item3), People[one.Item1]))]);
            var (from, to) = (begin.AddHours(fromHour), begin.AddHours(fromHour + hours));
            var shifts = rota.Between(from, to);
            shifts[0].From.ShouldBeLessThanOrEqualTo(from);
            shifts[^1].To.ShouldBeGreaterThanOrEqualTo(to);
            shifts.Zip(shifts.Skip(1)).ShouldAllBe(pair => pair.First.To == pair.Second.From);
            for (var at = from; at < to; at = at.AddHours(Math.Max(1, hours / 40.0)))
                shifts.Single(shift => at >= shift.From && at < shift.To).Person.ShouldBe(rota.On(at));
        });

    [Fact]
    public void Who_takes_over_a_stretch_is_told_in_it_and_the_list_says_for_whom()
    {
        var rota = Weekly(new Shift(Utc("2026-03-25T08:00:00"), Utc("2026-03-26T08:00:00"), "pipit"));
        rota.On(Utc("2026-03-25T12:00:00")).ShouldBe("pipit");
        rota.Between(Utc("2026-03-24T00:00:00"), Utc("2026-03-28T00:00:00")).Select(shift => (shift.Person, shift.Instead)).ShouldBe([("amsel", null), ("pipit", "amsel"), ("amsel", null)]);
    }

    [Theory]
    // 22:00 to 06:00 in Berlin; the night of 28 March has seven hours, that of 24 October nine.
    [InlineData("2026-03-28T20:59:59", null)]
    [InlineData("2026-03-28T21:00:00", "2026-03-29T04:00:00")]
    [InlineData("2026-03-29T03:59:59", "2026-03-29T04:00:00")]
    [InlineData("2026-03-29T04:00:00", null)]
    [InlineData("2026-10-24T20:00:00", "2026-10-25T05:00:00")]
    [InlineData("2026-10-25T04:59:59", "2026-10-25T05:00:00")]
    public void Quiet_hours_end_at_their_time_on_the_wall(string at, string? until)
    {
        var quiet = new QuietHours(new TimeSpan(22, 0, 0), new TimeSpan(6, 0, 0), Severity.Major, Berlin);
        quiet.Until(Utc(at), Severity.Minor).ShouldBe(until is null ? null : Utc(until));
        quiet.Until(Utc(at), Severity.Major).ShouldBeNull();
    }

    [Fact]
    public void A_team_is_read_or_says_what_is_wrong()
    {
        var contacts = People.ToHashSet();
        TeamDocument Document(params StepDocument[] steps) => new("larkfield-duty", "Europe/Berlin", steps, new RotaDocument(People, new DateOnly(2026, 3, 23)), new QuietDocument("22:00", "06:00", Severity.Major));
        string[] Wrong(TeamDocument document) { Team.Read(document, contacts, out var mistakes).ShouldBeNull(); return [.. mistakes.Select(one => one.Field)]; }
        var team = Team.Read(Document(new("rota"), new("pipit", "15m"), new("amsel", "1h")), contacts, out _)!;
        team.Steps.Select(step => step.After.TotalMinutes).ShouldBe([0, 15, 60]);
        team.Who(team.Steps[0], Utc("2026-03-30T07:00:00")).ShouldBe("linnet");
        Wrong(Document()).ShouldBe(["steps"]);
        Wrong(Document(new StepDocument("rota", "5m"))).ShouldBe(["steps"]);
        Wrong(Document(new("rota"), new("pipit", "15m"), new("amsel", "15m"))).ShouldBe(["steps"]);
        Wrong(Document(new StepDocument("nobody"))).ShouldBe(["steps"]);
        Wrong(Document(new StepDocument("rota")) with { Rota = null }).ShouldBe(["steps"]);
        Wrong(Document(new StepDocument("rota")) with { Zone = "Mars/Base" }).ShouldBe(["zone"]);
        Wrong(Document(new StepDocument("rota")) with { Quiet = new QuietDocument("22:00", "22:00") }).ShouldBe(["quiet"]);
        Wrong(Document(new StepDocument("rota")) with { Rota = new RotaDocument([], default, 0, "25:00", [new("pipit", Utc("2026-03-30T07:00:00"), Utc("2026-03-30T07:00:00"))]) }).ShouldBe(["instead", "rota", "days", "at"]);
    }

    [Fact]
    public void The_specifications_example_is_signed_as_there()
    {
        // Standard Webhooks, the vector its reference libraries test with (from memory).
        HookSignature.Sign("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "msg_p5jXN8AQM9LWM0D4loKWxJek", 1614265330, "{\"test\": 2432232314}").ShouldBe("v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
        HookSignature.IsSecret(HookSignature.NewSecret()).ShouldBeTrue();
        HookSignature.IsSecret("whsec_short").ShouldBeFalse();
        HookSignature.IsSecret("secret").ShouldBeFalse();
    }
}
