namespace Skevin.Core.Clusters;

/// <summary>What is reserved on a node beside what it has.</summary>
public sealed record NodeLoad(string Node, Resources Requests, Resources Limits, int Pods);

/// <summary>Sums of requests and limits by node.</summary>
public static class Capacity
{
    /// <summary>Loads of all nodes; pods that have ended reserve nothing.</summary>
    public static IReadOnlyList<NodeLoad> ByNode(Inventory inventory) =>
    [
        .. inventory.Nodes.Select(node =>
        {
            var pods = inventory.Pods.Where(pod => pod.Node == node.Name && pod.Phase is "Pending" or "Running").ToArray();
            var containers = pods.SelectMany(pod => pod.Containers).ToArray();
            return new NodeLoad(
                node.Name,
                containers.Aggregate(new Resources(), (sum, container) => sum + container.Request),
                containers.Aggregate(new Resources(), (sum, container) => sum + container.Limit),
                pods.Length);
        }),
    ];
}
