using Skevin.Core.Clusters;

namespace Skevin.Core.Collection;

/// <summary>How far an agent has come.</summary>
public enum RollOutStage
{
    /// <summary>No pod of the new revision yet.</summary>
    Waiting,

    /// <summary>The pod is being placed or its container created.</summary>
    Starting,

    /// <summary>It runs and is ready.</summary>
    Ready,

    /// <summary>It cannot start; the reason is given.</summary>
    Stuck,
}

/// <summary>One agent of a roll-out.</summary>
/// <param name="Place">Node, or the state collector's name.</param>
/// <param name="Pod">Its pod, empty while there is none.</param>
/// <param name="Why">Why it is not ready, or null.</param>
public sealed record AgentProgress(string Place, string Pod, RollOutStage Stage, string? Why);

/// <summary>What a roll-out does as a whole.</summary>
public enum RollOutState
{
    /// <summary>Every agent is of the revision and ready.</summary>
    Done,

    /// <summary>The cluster replaces one agent after the other.</summary>
    Going,

    /// <summary>A person stopped it, or asked for one agent first.</summary>
    Held,

    /// <summary>A new agent does not start, so the cluster replaces no further one.</summary>
    Halted,
}

/// <summary>A roll-out as a whole.</summary>
/// <param name="Updated">Agents of the revision that are ready.</param>
/// <param name="Total">Agents there should be.</param>
/// <param name="Earlier">Agents that still run, by their earlier revision, "unknown" where they do not say.</param>
public sealed record RollOutSummary(RollOutState State, int Updated, int Total, IReadOnlyDictionary<string, int> Earlier);

/// <summary>Reads the progress of a roll-out off the inventory.</summary>
public static class RollOutProgress
{
    /// <summary>One entry a node, and one for each collector of the whole cluster the plan has.</summary>
    public static IReadOnlyList<AgentProgress> Of(Inventory inventory, CollectionPlan plan, int revision)
    {
        var wanted = revision.ToString(System.Globalization.CultureInfo.InvariantCulture);
        var agents = inventory.Pods
            .Where(pod => pod.Namespace == Manifests.Namespace && pod.Revision == wanted)
            .ToArray();
        var list = inventory.Nodes
            .Select(node => One(node.Name, agents.FirstOrDefault(pod => pod.Workload == Manifests.Agent && pod.Node == node.Name), node))
            .ToList();
        foreach (var (name, title) in Manifests.Collectors(plan))
        {
            var one = agents.FirstOrDefault(pod => pod.Workload == name);
            list.Add(One(title, one, inventory.Nodes.FirstOrDefault(node => node.Name == one?.Node)));
        }
        return list;
    }

    /// <summary>All agents together.</summary>
    public static RollOutSummary Summary(Inventory inventory, IReadOnlyList<AgentProgress> agents, int revision)
    {
        var wanted = revision.ToString(System.Globalization.CultureInfo.InvariantCulture);
        var ready = agents.Count(agent => agent.Stage == RollOutStage.Ready);
        var held = inventory.Workloads.Any(workload => workload.Namespace == Manifests.Namespace && Manifests.Workloads.Contains(workload.Name) && workload.Held);
        var earlier = inventory.Pods.Where(pod => pod.Namespace == Manifests.Namespace && Manifests.Workloads.Contains(pod.Workload) && pod.Revision != wanted)
            .GroupBy(pod => pod.Revision ?? "unknown").ToDictionary(group => group.Key, group => group.Count());
        var state = ready == agents.Count && earlier.Count == 0 ? RollOutState.Done
            : agents.Any(agent => agent.Stage == RollOutStage.Stuck) ? RollOutState.Halted
            : held ? RollOutState.Held : RollOutState.Going;
        return new(state, ready, agents.Count, earlier);
    }

    private static AgentProgress One(string place, PodState? pod, NodeState? node)
    {
        if (pod is null)
            return new(place, "", RollOutStage.Waiting, node is { Ready: false } ? $"The node is not ready: {node.NotReadyBecause}" : null);
        var health = HealthOf.Pod(pod, node);
        return health.Level switch
        {
            HealthLevel.Clear => new(place, pod.Name, RollOutStage.Ready, null),
            HealthLevel.Warning => new(place, pod.Name, RollOutStage.Starting, string.Join(" ", health.Because)),
            _ => new(place, pod.Name, RollOutStage.Stuck, string.Join(" ", health.Because)),
        };
    }
}
