using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>A policy of the cluster forbids the agent's image.</summary>
public sealed class ImageForbidden : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.Evidence.Expected.Agent is { Ready: false } agent && agent.Containers.FirstOrDefault(container => container.State == "waiting" && container.Message is { } message
            && message.Contains("polic", StringComparison.OrdinalIgnoreCase) && (message.Contains("denied", StringComparison.OrdinalIgnoreCase) || message.Contains("forbid", StringComparison.OrdinalIgnoreCase))) is { } container
            ? new Cause(
                "an image policy forbids the agent",
                $"Pod {agent.Name} on {agent.Node} cannot start: {container.Message}. The image may well be there; the cluster does not let it be pulled. Agents that run go on.",
                $"Have whoever keeps the cluster's image policy allow {container.Image}; the pods then start by themselves.",
                CureAct.None,
                [$"pod {agent.Namespace}/{agent.Name}: image {container.Image}, {container.Reason}"])
            : null;
}
