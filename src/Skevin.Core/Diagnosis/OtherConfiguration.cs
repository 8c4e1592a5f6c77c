using Skevin.Core.Arrivals;
using Skevin.Core.Collection;

namespace Skevin.Core.Diagnosis;

/// <summary>The agent runs, but with another configuration object than the plan's.</summary>
public sealed class OtherConfiguration : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.Evidence.Expected.Agent is { Configurations: { Count: > 0 } mounted, Revision: { } revision } agent && !mounted.Contains(Manifests.ConfigurationOf(revision))
            ? new Cause(
                "the agent reads another configuration",
                $"Pod {agent.Name} on {agent.Node} is given the configuration object {string.Join(", ", mounted)}, not {Manifests.ConfigurationOf(revision)}, which holds the plan of its revision. What the plan added since is not collected there.",
                "Apply the plan again: it gives the agents the plan's own object.",
                CureAct.ApplyAgain,
                [$"pod {agent.Namespace}/{agent.Name}: configuration objects {string.Join(", ", mounted)}; revision {agent.Revision ?? "unknown"}"])
            : null;
}
