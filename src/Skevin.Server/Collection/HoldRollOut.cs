using System.Text.Json.Nodes;
using k8s;
using k8s.Autorest;
using k8s.Models;
using Skevin.ClusterApi;
using Skevin.Core.Collection;
using Skevin.Server.Clusters;
using Skevin.Server.Live;
using Skevin.Server.Setup;

namespace Skevin.Server.Collection;

/// <summary>Whether a roll-out is to be held.</summary>
/// <param name="Held">True stops it where it is, false lets it go on.</param>
public sealed record HoldRequest(bool Held);

/// <summary>Stops a roll-out where it is, or lets it go on. The cluster itself keeps that, so a restart of the server changes nothing.</summary>
public sealed class HoldRollOut(LiveFeed feed)
{
    /// <summary>Does it.</summary>
    public async Task<Outcome<HoldRequest>> Run(WatchedCluster cluster, HoldRequest request, CancellationToken stop)
    {
        var (ns, agent) = (Manifests.Namespace, Manifests.Agent);
        if (cluster.Watch.Current.Workloads.All(workload => workload.Namespace != ns || workload.Name != agent))
            return new Problem(409, "Nothing is rolled out.", "Make a plan under Collect and roll it out.");
        try
        {
            await cluster.Client.AppsV1.PatchNamespacedDaemonSetAsync(Patch("updateStrategy", Manifests.UpdateStrategy(request.Held)), agent, ns, fieldManager: ManifestApply.FieldManager, cancellationToken: stop);
            foreach (var workload in cluster.Watch.Current.Workloads.Where(workload => workload.Namespace == ns && workload.Name != agent && Manifests.Workloads.Contains(workload.Name)))
                await cluster.Client.AppsV1.PatchNamespacedDeploymentAsync(Patch("paused", request.Held), workload.Name, ns, fieldManager: ManifestApply.FieldManager, cancellationToken: stop);
        }
        catch (Exception trouble) when (trouble is HttpOperationException or HttpRequestException)
        {
            return new Problem(502, request.Held ? "The roll-out could not be stopped." : "The roll-out could not go on.", InventoryWatch.Words(trouble));
        }
        feed.Tell("collection", cluster.Name);
        return request;
    }

    /// <summary>Takes away the agent of the first node that is ready, so that the cluster puts one of the new revision there.</summary>
    public static async Task ReplaceFirst(WatchedCluster cluster, CancellationToken stop)
    {
        var inventory = cluster.Watch.Current;
        var ready = inventory.Nodes.Where(node => node.Ready).Select(node => node.Name).ToHashSet();
        if (inventory.Pods.Where(pod => pod.Namespace == Manifests.Namespace && pod.Workload == Manifests.Agent && ready.Contains(pod.Node)).MinBy(pod => pod.Node, StringComparer.Ordinal) is { } first)
            await cluster.Client.CoreV1.DeleteNamespacedPodAsync(first.Name, first.Namespace, cancellationToken: stop);
    }

    private static V1Patch Patch(string field, JsonNode value) => new(new JsonObject { ["spec"] = new JsonObject { [field] = value } }.ToJsonString(), V1Patch.PatchType.MergePatch);
}
