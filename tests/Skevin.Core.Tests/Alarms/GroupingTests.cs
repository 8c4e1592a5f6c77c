using CsCheck;
using Skevin.Core.Alarms;
using Skevin.Core.Clusters;

namespace Skevin.Core.Tests.Alarms;

public sealed class GroupingTests
{
    private static readonly DateTimeOffset Start = new(2026, 11, 26, 6, 0, 0, TimeSpan.Zero);

    private static GroupedAlarm Alarm(int n, string rule, Severity severity, params (string, string)[] labels) => new(new Guid(n, 0, 0, new byte[8]), rule, labels.ToDictionary(pair => pair.Item1, pair => pair.Item2), severity, Start.AddMinutes(n));

    private static NodeState Node(string name, bool ready) => new(name, ready, ready ? null : "the agent has stopped posting", [], [], new(4, 16), new(4, 16), "v1", Start);

    private static PodState Pod(string ns, string name, string node, bool ready) => new(
        ns, name, name, node, "Running", null, null, [], "Deployment", "ledger", [new ContainerState("c", "i", ready, 0, "running", null, null, default, default, [], null)], [], Start, null);

    private static readonly Inventory Lost = Inventory.Empty with
    {
        Nodes = [Node("north-1", false), Node("north-2", true)],
        Pods = [Pod("auction", "ledger-1", "north-1", false), Pod("auction", "ledger-2", "north-2", true)],
    };

    [Fact]
    public void A_lost_node_explains_itself_and_what_runs_on_it_and_nothing_else()
    {
        var node = Lost.Nodes[0].Name;
        var there = Lost.Pods.First(pod => pod.Node == node);
        var elsewhere = Lost.Pods.First(pod => pod.Node != node);
        var groups = AlarmGrouping.Of(
        [
            Alarm(1, "pod without data", Severity.Minor, ("namespace", there.Namespace), ("pod", there.Name)),
            Alarm(2, "node away", Severity.Critical, ("node", node)),
            Alarm(3, "pod without data", Severity.Minor, ("namespace", elsewhere.Namespace), ("pod", elsewhere.Name)),
            Alarm(4, "node busy", Severity.Warning, ("k8s.node.name", Lost.Nodes[1].Name)),
        ], Lost);
        groups.Select(group => (group.Title, group.Because, group.Severity, string.Join(' ', group.Alarms.Select(id => id.ToByteArray()[0])))).ShouldBe(
        [
            // The root's own alarm first, though it came later.
            ($"node {node} is not ready", "the agent has stopped posting", Severity.Critical, "2 1"),
            ("pod without data", null, Severity.Minor, "3"),
            ("node busy", null, Severity.Warning, "4"),
        ]);
    }

    [Fact]
    public void Alarms_of_one_rule_are_one_group_named_by_what_they_share()
    {
        var groups = AlarmGrouping.Of([Alarm(1, "memory", Severity.Major, ("namespace", "auction"), ("pod", "a")), Alarm(2, "memory", Severity.Major, ("namespace", "auction"), ("pod", "b")), Alarm(3, "errors", Severity.Major, ("namespace", "auction")), Alarm(4, "errors", Severity.Major, ("namespace", "payout"))], Inventory.Empty);
        groups.Select(group => (group.Title, group.Alarms.Count)).ShouldBe([("memory in auction", 2), ("errors", 2)]);
    }

    [Fact]
    public void Every_alarm_stands_in_one_group_and_the_worst_come_first() =>
        Gen.Select(Gen.Int[0, 3], Gen.Enum<Severity>(), Gen.Int[0, 5]).Array[0, 30].Sample(made =>
        {
            var alarms = made.Select((one, i) => Alarm(i, "rule " + one.Item1, one.Item2, ("node", Lost.Nodes[one.Item3 % Lost.Nodes.Count].Name))).ToArray();
            var groups = AlarmGrouping.Of(alarms, Lost);
            groups.SelectMany(group => group.Alarms).Order().ShouldBe(alarms.Select(alarm => alarm.Id).Order());
            groups.Select(group => group.Severity).ShouldBe(groups.Select(group => group.Severity).OrderDescending());
            groups.ShouldAllBe(group => group.Severity == alarms.Where(alarm => group.Alarms.Contains(alarm.Id)).Max(alarm => alarm.Severity));
        });
}
