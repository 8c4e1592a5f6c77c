using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The agent runs, but the roll-out of the plan in force has not reached it.</summary>
public sealed class AgentOfEarlierRevision : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.Evidence.Expected.Agent is { Ready: true, Revision: { } revision } agent && source.Evidence.PlanRevision is { } plan && revision != plan
            ? new Cause(
                $"the agent is of revision {revision}",
                $"Pod {agent.Name} on {agent.Node} runs revision {revision}; the plan in force is revision {plan}. What the plan added since is not collected there.",
                "See the roll-out under Collect: let it go on, or go back to the earlier plan.",
                CureAct.None,
                [$"pod {agent.Namespace}/{agent.Name}: revision {revision}, plan {plan}"])
            : null;
}
