using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;

namespace Skevin.Core.Diagnosis;

/// <summary>The agent's pod is there but not ready.</summary>
public sealed class AgentNotReady : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source)
    {
        if (source.Evidence.Expected.Agent is not { Ready: false } agent)
            return null;
        var why = string.Join(" ", HealthOf.Pod(agent, null).Because);
        return new Cause(
            "the agent is not ready",
            $"Pod {agent.Name} on {agent.Node} is not ready. {why}",
            "Cure what keeps the pod from starting; what it has not sent is in its buffer.",
            CureAct.None,
            [$"pod {agent.Namespace}/{agent.Name}: {agent.Phase}, {why}"]);
    }
}
