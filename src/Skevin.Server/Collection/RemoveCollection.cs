using k8s;
using k8s.Autorest;
using k8s.Models;
using Microsoft.EntityFrameworkCore;
using Skevin.ClusterApi;
using Skevin.Core.Collection;
using Skevin.Server.Clusters;
using Skevin.Server.Ingest;
using Skevin.Server.Live;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Collection;

/// <summary>What was taken out of a cluster.</summary>
/// <param name="Removed">The objects, as "kind name".</param>
/// <param name="LeftOnNodes">Nodes whose agent did not answer and may have left its buffer there.</param>
/// <param name="Gone">Whether the agents' namespace is gone; a cluster may take its time to end what is in it.</param>
public sealed record Removal(IReadOnlyList<string> Removed, IReadOnlyList<string> LeftOnNodes, bool Gone);

/// <summary>
/// Takes everything Skevin has put into a cluster out of it again: first what agents keep on their nodes, then their namespace with
/// all that is in it, then what they were allowed to do. Whatever is not there any more is passed over, so it can be done again.
/// </summary>
public sealed class RemoveCollection(IDbContextFactory<SkevinContext> contexts, IngestTokens tokens, AgentCalls calls, LiveFeed feed, TimeProvider clock)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(500);

    /// <summary>Does it.</summary>
    public async Task<Outcome<Removal>> Run(WatchedCluster cluster, CancellationToken stop)
    {
        var left = await Task.WhenAll(AgentCalls.Agents(cluster.Watch.Current).Select(async agent => ((await calls.Post<ForgetAnswer>(cluster, agent, "forget", stop)).Value is null, agent.Node)));
        var removed = new List<string>();
        var api = cluster.Client;
        try
        {
            await Remove($"Namespace {Manifests.Namespace}", () => api.CoreV1.DeleteNamespaceAsync(Manifests.Namespace, cancellationToken: stop));
            await Remove($"ClusterRoleBinding {Manifests.Agent}", () => api.RbacAuthorizationV1.DeleteClusterRoleBindingAsync(Manifests.Agent, cancellationToken: stop));
            await Remove($"ClusterRole {Manifests.Agent}", () => api.RbacAuthorizationV1.DeleteClusterRoleAsync(Manifests.Agent, cancellationToken: stop));
        }
        catch (Exception trouble) when (trouble is HttpOperationException or HttpRequestException)
        {
            return new Problem(502, $"The cluster refused to remove {(removed.Count == 0 ? "the agents' namespace" : "the agents' rights")}.",
                $"{InventoryWatch.Words(trouble)} {(removed.Count == 0 ? "Nothing was removed." : "Removed so far: " + string.Join(", ", removed) + ".")} Give the kubeconfig's account the right, and remove again.");
        }
        await using var context = await contexts.CreateDbContextAsync(stop);
        var now = clock.GetUtcNow();
        await context.PlanRevisions.Where(row => row.ClusterId == cluster.Id && row.RemovedAt == null).ExecuteUpdateAsync(set => set.SetProperty(row => row.RemovedAt, now), stop);
        foreach (var token in await context.IngestTokens.Where(token => token.ClusterId == cluster.Id && token.ForAgents && token.RevokedAt == null).Select(token => token.Id).ToListAsync(stop))
            await tokens.Revoke(token, stop);
        context.Marks.Add(new MarkRow { Id = Guid.CreateVersion7(), ClusterId = cluster.Id, At = now, Kind = "rollout", Text = "agents taken out" });
        await context.SaveChangesAsync(stop);
        feed.Tell("collection", cluster.Name);
        return new Removal(removed, [.. left.Where(pair => pair.Item1).Select(pair => pair.Node)], await Gone(api, stop));

        async Task Remove(string what, Func<Task> delete)
        {
            try
            {
                await delete();
                removed.Add(what);
            }
            catch (HttpOperationException missing) when ((int)missing.Response.StatusCode == 404)
            {
                // It is not there any more, or never was.
            }
        }
    }

    private static async Task<bool> Gone(Kubernetes api, CancellationToken stop)
    {
        for (var waited = TimeSpan.Zero; waited < Patience; waited += Look)
        {
            try
            {
                await api.CoreV1.ReadNamespaceAsync(Manifests.Namespace, cancellationToken: stop);
            }
            catch (HttpOperationException missing) when ((int)missing.Response.StatusCode == 404)
            {
                return true;
            }
            catch (Exception trouble) when (trouble is HttpOperationException or HttpRequestException)
            {
                return false;
            }
            await Task.Delay(Look, stop);
        }
        return false;
    }

    private sealed record ForgetAnswer(int Batches);
}
