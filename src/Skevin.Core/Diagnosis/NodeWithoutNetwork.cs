using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;

namespace Skevin.Core.Diagnosis;

/// <summary>The node a source is on is not ready because no network is installed.</summary>
public sealed class NodeWithoutNetwork : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) => source.Evidence.Expected.Node is { Ready: false } node && node.LacksNetwork
        ? new Cause(
            $"no network on node {node.Name}",
            $"Node {node.Name} waits for the cluster's network: {node.NotReadyBecause}. Pods that run go on, but none can start there, the agent's neither.",
            "Install the cluster's network again. The order is: network, nodes ready, name service, everything else; see Readiness under Clusters.",
            CureAct.None,
            [$"node {node.Name}: Ready is not true, {node.NotReadyBecause}"])
        : null;
}
