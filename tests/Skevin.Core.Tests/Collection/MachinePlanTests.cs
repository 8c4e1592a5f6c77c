using Skevin.Core.Arrivals;
using Skevin.Core.Collection;
using Skevin.Core.Diagnosis;

namespace Skevin.Core.Tests.Collection;

/// <summary>Machines outside of clusters: their plans, what is expected of them, how they are set up.</summary>
public sealed class MachinePlanTests
{
    private static readonly DateTimeOffset Now = new(2026, 5, 12, 6, 0, 0, TimeSpan.Zero);

    [Theory]
    [InlineData("/var/log/ledger/*.log", true)]
    [InlineData("/var/log/ledger.log", true)]
    [InlineData("var/log/ledger.log", false)]
    [InlineData("/var/log/", false)]
    [InlineData("/var/*/ledger.log", false)]
    [InlineData("/var/log/../shadow", false)]
    public void Files_are_whole_paths(string path, bool good) =>
        (!new MachinePlan(Files: [path]).Problems().Any()).ShouldBe(good);

    [Fact]
    public void Mistakes_are_told_in_sentences()
    {
        new MachinePlan().Problems().ShouldBeEmpty();
        new MachinePlan(HostMetrics: false).Problems().Single().ShouldContain("collects nothing");
        new MachinePlan(EverySeconds: 0).Problems().Single().ShouldContain("1 s to 5 min");
        new MachinePlan(Endpoints: [new("Ledger", "http://127.0.0.1:1")]).Problems().Single().ShouldContain("'Ledger'");
        new MachinePlan(Endpoints: [new("ledger", "127.0.0.1:9464/metrics")]).Problems().Single().ShouldContain("address");
        new MachinePlan(Endpoints: [new("ledger", "http://a"), new("ledger", "http://b")]).Problems().Single().ShouldContain("Two endpoints");
    }

    [Fact]
    public void Each_thing_planned_is_expected()
    {
        var state = new MachineState("weighbridge", Now, Now, true);
        var expected = ExpectedSources.Of(new MachinePlan(Files: ["/var/log/a.log"], Endpoints: [new("ledger", "http://127.0.0.1:1")], Syslog: true, EverySeconds: 30), state);
        expected.Select(source => (source.Signal, source.Name)).ShouldBe([("metrics", "machine/weighbridge"), ("metrics", "machine/weighbridge ledger"), ("logs", "machine/weighbridge/var/log/a.log"), ("logs", "machine/weighbridge syslog")]);
        expected.ShouldAllBe(source => source.Machine == state && source.Since == Now && source.Namespace == null);
        expected[0].IntervalSeconds.ShouldBe(30);
    }

    [Fact]
    public void A_silent_machine_is_told_apart_by_what_is_known_of_it()
    {
        Cause? Of(MachineState machine, SourceReport? report = null) => Diagnoses.Of(ArrivalJudgement.Judge(new SourceEvidence(ExpectedSources.Of(new MachinePlan(), machine)[0], null, report, null) { At = Now }, Now));
        var long_ago = Now.AddHours(-1);
        Of(new("weighbridge", null, null, true))!.Short.ShouldBe("not set up yet");
        Of(new("weighbridge", long_ago, Now.AddMinutes(-5), true))!.Short.ShouldBe("no word from the machine");
        Of(new("weighbridge", long_ago, Now.AddSeconds(-20), true))!.Short.ShouldBe("it sends nothing");
        Of(new("weighbridge", long_ago, Now.AddSeconds(-20), false))!.Short.ShouldBe("its token is revoked");
        Of(new("weighbridge", Now.AddSeconds(-20), Now, true)).ShouldBeNull("it has only just begun");
        Of(new("weighbridge", long_ago, Now, true), new SourceReport("metrics", "machine/weighbridge", "weighbridge", Now, 0, 0, 0, "the node's counters cannot be read: no such file"))!.Text.ShouldContain("no such file");
    }

    [Fact]
    public void The_shells_lines_hold_the_token_in_a_file_of_root_and_nothing_ends_their_texts()
    {
        var text = MachineSetup.Install("weighbridge", "https://skevin.larkfield.example", "skv_1");
        text.ShouldContain("(umask 077; printf '%s' 'skv_1' > /etc/skevin/token)");
        text.ShouldContain("ExecStart=/opt/skevin/Skevin.Agent --role machine\n");
        text.Split('\n').Count(line => line == "UNIT").ShouldBe(1);
        // The unit is known by its token's file, not by the token.
        text[text.IndexOf("[Unit]", StringComparison.Ordinal)..].ShouldNotContain("skv_1");
        foreach (var odd in new[] { "a b", "a'b", "a\nb", "a$(b)", "a`b`", "a%b" })
            Should.Throw<ArgumentException>(() => MachineSetup.Install(odd, "https://skevin.larkfield.example", "skv_1"));
    }

    [Fact]
    public void A_shell_takes_the_lines_as_they_are_meant()
    {
        // dash of Debian reads them without running them: -n, POSIX sh.
        var path = Path.Combine(Path.GetTempPath(), Path.GetRandomFileName());
        File.WriteAllText(path, MachineSetup.Install("weighbridge", "https://skevin.larkfield.example", "skv_1") + MachineSetup.Remove);
        using var shell = System.Diagnostics.Process.Start(new System.Diagnostics.ProcessStartInfo("sh", ["-n", path]) { RedirectStandardError = true })!;
        shell.StandardError.ReadToEnd().ShouldBe("");
        shell.WaitForExit();
        shell.ExitCode.ShouldBe(0);
        File.Delete(path);
    }
}
