using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The agent's pod cannot start because its image cannot be had; a roll-out stands still there.</summary>
public sealed class ImageNotPulled : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source)
    {
        if (source.Evidence.Expected.Agent is not { Ready: false } agent
            || agent.Containers.FirstOrDefault(container => container is { State: "waiting", Reason: "ErrImagePull" or "ImagePullBackOff" or "InvalidImageName" or "ErrImageNeverPull" }) is not { } container)
            return null;
        return new Cause(
            "the agent's image cannot be pulled",
            $"Pod {agent.Name} on {agent.Node} cannot start: {container.Message ?? container.Reason}. The roll-out of the agents stands still there; agents on other nodes go on as they were.",
            "Apply the plan again: it restores the image the plan names. Where that is the one that is missing, correct SKEVIN_AGENT_IMAGE or the nodes' access to its registry.",
            CureAct.ApplyAgain,
            [$"pod {agent.Namespace}/{agent.Name}: image {container.Image}, {container.Reason}"]);
    }
}
