using Skevin.Core.Clusters;

namespace Skevin.Core.Alarms;

/// <summary>An alarm that is to be put beside others.</summary>
/// <param name="Labels">Of its series.</param>
public sealed record GroupedAlarm(Guid Id, string Rule, IReadOnlyDictionary<string, string> Labels, Severity Severity, DateTimeOffset Since);

/// <summary>Alarms that have something in common.</summary>
/// <param name="Title">What they have in common: the root, or the rule.</param>
/// <param name="Because">What explains them all; null where nothing is known to.</param>
/// <param name="Alarms">Their ids, the root's own first.</param>
public sealed record AlarmGroup(string Title, string? Because, Severity Severity, DateTimeOffset Since, IReadOnlyList<Guid> Alarms);

/// <summary>
/// Puts alarms together, so that a person reads one cause and not its twenty effects: those a node that is not ready explains stand under
/// the node; of the others, those of one rule under the rule. The method is ours, no source.
/// </summary>
public static class AlarmGrouping
{
    /// <summary>All alarms, each in one group: the worst group first, of equal ones those with a cause, then the oldest.</summary>
    public static IReadOnlyList<AlarmGroup> Of(IReadOnlyCollection<GroupedAlarm> alarms, Inventory inventory)
    {
        var groups = new List<AlarmGroup>();
        var left = alarms.ToList();
        foreach (var node in inventory.Nodes.Where(node => !node.Ready).OrderBy(node => node.Name, StringComparer.Ordinal))
        {
            var explained = left.Where(alarm => Explains(node, alarm.Labels, inventory)).ToArray();
            if (explained.Length == 0)
                continue;
            left.RemoveAll(explained.Contains);
            groups.Add(Group($"node {node.Name} is not ready", node.NotReadyBecause, explained.OrderBy(alarm => Value(alarm.Labels, "node") is null).ThenBy(alarm => alarm.Since)));
        }
        foreach (var rule in left.GroupBy(alarm => alarm.Rule))
            groups.Add(Group(rule.Key + Shared(rule), null, rule.OrderBy(alarm => alarm.Since)));
        return [.. groups.OrderByDescending(group => group.Severity).ThenBy(group => group.Because is null).ThenBy(group => group.Since).ThenBy(group => group.Title, StringComparer.Ordinal)];
    }

    // Where the alarm's series lies: on the node itself, in a pod there, or in a workload one of whose pods is there and does not answer.
    private static bool Explains(NodeState node, IReadOnlyDictionary<string, string> labels, Inventory inventory)
    {
        if (Value(labels, "node") is { } own)
            return own == node.Name;
        var ns = Value(labels, "namespace");
        if (Value(labels, "pod") is { } name)
            return inventory.Pods.Any(pod => pod.Name == name && pod.Node == node.Name && (ns is null || pod.Namespace == ns));
        return Value(labels, "workload") is { } workload && inventory.Pods.Any(pod => pod.Workload == workload && pod.Node == node.Name && !pod.Ready && (ns is null || pod.Namespace == ns));
    }

    private static string? Value(IReadOnlyDictionary<string, string> labels, string name) =>
        labels.TryGetValue(name, out var value) || labels.TryGetValue($"k8s.{name}.name", out value) ? value : null;

    private static string Shared(IEnumerable<GroupedAlarm> alarms)
    {
        var all = alarms.ToArray();
        return all.Length > 1 && Value(all[0].Labels, "namespace") is { } ns && all.All(alarm => Value(alarm.Labels, "namespace") == ns) ? $" in {ns}" : "";
    }

    private static AlarmGroup Group(string title, string? because, IEnumerable<GroupedAlarm> alarms)
    {
        var all = alarms.ToArray();
        return new(title, because, all.Max(alarm => alarm.Severity), all.Min(alarm => alarm.Since), [.. all.Select(alarm => alarm.Id)]);
    }
}
