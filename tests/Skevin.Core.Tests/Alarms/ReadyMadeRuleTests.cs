using Skevin.Core.Alarms;
using Skevin.Core.Alarms.ReadyMade;

namespace Skevin.Core.Tests.Alarms;

/// <summary>Rules that ship: each can be put in force as it is, and says what to do.</summary>
public sealed class ReadyMadeRuleTests
{
    [Fact]
    public void Each_can_be_put_in_force_and_has_a_runbook()
    {
        ReadyMadeRules.All.Select(rule => rule.Area).Distinct().ShouldBe(["resource-use", "pod-health", "traffic", "collection", "repetition"]);
        ReadyMadeRules.All.Select(rule => rule.Document.Rule).ShouldBeUnique();
        foreach (var rule in ReadyMadeRules.All)
        {
            AlarmRule.Read(rule.Document, out var mistakes).ShouldNotBeNull($"{rule.Document.Rule}: {string.Join(" ", mistakes.Select(mistake => mistake.Message))}");
            var runbook = ReadyMadeRules.Runbook(rule.Runbook).ShouldNotBeNull(rule.Runbook);
            runbook.ShouldStartWith($"# {rule.Document.Rule}\n");
            foreach (var part in new[] { "\n## Look at\n", "\n## Do\n" })
                runbook.ShouldContain(part, customMessage: rule.Runbook);
            rule.Document.Runbook.ShouldBe(ReadyMadeRules.Path + rule.Runbook);
        }
        ReadyMadeRules.Runbook("../rules.yaml").ShouldBeNull();
    }
}
