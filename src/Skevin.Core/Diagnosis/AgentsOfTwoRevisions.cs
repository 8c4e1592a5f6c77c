using Skevin.Core.Collection;

namespace Skevin.Core.Diagnosis;

/// <summary>Agents of more than one revision at once, and nothing that would bring them together.</summary>
internal static class AgentsOfTwoRevisions
{
    /// <summary>The trouble, or nothing while the cluster still replaces agents.</summary>
    public static IEnumerable<Trouble> Find(RollOutSummary? rollOut, int revision)
    {
        if (rollOut is not { State: RollOutState.Held, Earlier.Count: > 0 })
            yield break;
        var others = rollOut.Earlier.OrderBy(pair => pair.Key, StringComparer.Ordinal).Select(pair => $"{pair.Value} of revision {pair.Key}").ToArray();
        yield return new Trouble(
            "agents of two revisions",
            $"{rollOut.Updated} of {rollOut.Total} agents are of revision {revision}, {string.Join(", ", others)}, and the roll-out is held: the cluster replaces none by itself. Nodes are read by different plans.",
            "Under Collect let the roll-out go on, or go back to the earlier revision.",
            TroublePlace.Plan,
            [$"daemon set {Manifests.Namespace}/{Manifests.Agent}: pods are replaced on deletion only", .. others]);
    }
}
