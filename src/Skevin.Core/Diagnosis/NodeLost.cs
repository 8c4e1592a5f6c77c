using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The node a source is on is not ready.</summary>
public sealed class NodeLost : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) => source.Evidence.Expected.Node is { Ready: false } node
        ? new Cause(
            $"node {node.Name} is not ready",
            $"Nothing on node {node.Name} can be read or sent: {node.NotReadyBecause}. What its agent had put away before is sent when the node is back.",
            "Bring the node back, or take it out of the cluster: then nothing is expected of it any more.",
            CureAct.None,
            [$"node {node.Name}: Ready is not true, {node.NotReadyBecause}"])
        : null;
}
