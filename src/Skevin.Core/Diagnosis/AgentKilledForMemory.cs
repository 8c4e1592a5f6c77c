using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The agent is killed at its memory limit again and again.</summary>
public sealed class AgentKilledForMemory : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.Evidence.Expected.Agent is { Ready: false } agent && agent.Containers.FirstOrDefault(container => !container.Ready && container.Last is { Reason: "OOMKilled" }) is { } container
            ? new Cause(
                "the agent is killed for memory",
                $"Pod {agent.Name} on {agent.Node} was killed at its limit of {container.Limit.Memory / (1 << 20):0} MiB at {container.Last!.At:HH:mm:ss} and waits before its next start; it has been started anew {container.Restarts} times. What it had sealed is in its buffer.",
                "Apply the plan again: it restores the limit the plan sets. Where that one is too low, leave something out under Collect, Trim.",
                CureAct.ApplyAgain,
                [$"pod {agent.Namespace}/{agent.Name}: OOMKilled, exit {container.Last.ExitCode}, limit {container.Limit.Memory:0} By, {container.Restarts} restarts"])
            : null;
}
