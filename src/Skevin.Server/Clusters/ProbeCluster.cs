using Skevin.Core.Access;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using Skevin.Server.Setup;

namespace Skevin.Server.Clusters;

/// <summary>What to probe.</summary>
/// <param name="From">Node to try from; left out for every node.</param>
/// <param name="Kind">A service, a pod, or the way between nodes.</param>
/// <param name="Namespace">Of the service or pod.</param>
/// <param name="Name">Of the service or pod.</param>
public sealed record ProbeRequest(string? From, ProbeKind Kind, string? Namespace = null, string? Name = null);

/// <summary>An attempt and how it went.</summary>
public sealed record ProbeOutcome(ProbeAttempt Attempt, ProbeAnswer Answer);

/// <summary>A probe that was made.</summary>
/// <param name="Warning">What it does not prove; null where it is whole.</param>
public sealed record ProbeView(IReadOnlyList<ProbeOutcome> Outcomes, string? Warning);

/// <summary>Has the agents try names and connections now: real ones, from their nodes.</summary>
public sealed class ProbeCluster(AgentCalls calls)
{
    private const int MostAttempts = 400;
    private const int AtOnce = 8;

    /// <summary>Does it.</summary>
    public async Task<Outcome<ProbeView>> Run(WatchedCluster cluster, ProbeRequest request, AccessScope scope, CancellationToken stop)
    {
        var inventory = cluster.Watch.Current;
        var agents = AgentCalls.Agents(inventory);
        if (agents.Count == 0)
            return new Problem(409, "There is no agent that could try.", "Roll out a plan under Collect; the agents on the nodes make the attempts.");
        var from = agents.Where(agent => string.IsNullOrEmpty(request.From) || agent.Node == request.From).ToArray();
        if (from.Length == 0)
            return new Problem(404, "No agent on that node.", $"There is no agent that is ready on '{request.From}'.");
        var nodes = from.Select(agent => agent.Node);
        if (request.Kind == ProbeKind.Nodes ? scope.Namespaces is not null : !scope.Sees(cluster.Name, request.Namespace))
            return new Problem(404, "Nothing to probe.", "It is not there, or not for you.");
        var attempts = request.Kind switch
        {
            ProbeKind.Service when inventory.Services.FirstOrDefault(one => one.Namespace == request.Namespace && one.Name == request.Name) is { } service => Probes.ToService(service, nodes),
            ProbeKind.Pod when inventory.Pods.FirstOrDefault(one => one.Namespace == request.Namespace && one.Name == request.Name) is { } pod => Probes.ToPod(pod, nodes),
            ProbeKind.Nodes => Probes.BetweenNodes(agents, Manifests.StatusPort).Where(attempt => nodes.Contains(attempt.From)),
            _ => null,
        };
        if (attempts is null)
            return new Problem(404, "Nothing to probe.", "It is not there, or not for you.");
        var list = attempts.Take(MostAttempts).ToArray();
        if (list.Length == 0)
            return new Problem(409, "There is nothing to connect to.", request.Kind == ProbeKind.Nodes ? "Only one node has an agent that is ready; between nodes takes two." : "It names no port, or has no address yet.");
        var outcomes = new ProbeOutcome[list.Length];
        var byNode = agents.ToDictionary(agent => agent.Node);
        await Parallel.ForEachAsync(list.Index(), new ParallelOptions { MaxDegreeOfParallelism = AtOnce, CancellationToken = stop }, async (one, cancel) =>
        {
            var (i, attempt) = one;
            var answer = await calls.Get<ProbeAnswer>(cluster, byNode[attempt.From], $"probe/{attempt.Family}/{attempt.Port}/{attempt.Host}", cancel);
            outcomes[i] = new(attempt, answer.Value ?? new ProbeAnswer([], null, null, $"{answer.Problem!.Title} {answer.Problem.Detail}"));
        });
        var warning = list.All(attempt => attempt.SameNode) ? "Both ends are on the same node: this proves nothing about the way between nodes."
            : inventory.Nodes.Count > agents.Count ? $"Nodes without an agent that is ready took no part: {string.Join(", ", inventory.Nodes.Select(node => node.Name).Except(agents.Select(agent => agent.Node)))}." : null;
        return new ProbeView(outcomes, warning);
    }
}
