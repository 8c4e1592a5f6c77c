using System.Text.Json;
using k8s;
using k8s.Autorest;
using Skevin.ClusterApi;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using Skevin.Server.Collection;
using Skevin.Server.Setup;

namespace Skevin.Server.Clusters;

/// <summary>Asks an agent's page, through the cluster API's pod proxy, with the key by which it knows its server.</summary>
public sealed class AgentCalls(AgentKeys keys)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15);

    /// <summary>Gets JSON of an agent; a problem in words where it does not answer.</summary>
    public Task<Outcome<T>> Get<T>(WatchedCluster cluster, PodState agent, string path, CancellationToken stop) where T : class =>
        Ask<T>(cluster, agent, headers => cluster.Client.CoreV1.ConnectGetNamespacedPodProxyWithPathWithHttpMessagesAsync(Page(agent), agent.Namespace, path, customHeaders: headers, cancellationToken: stop), stop);

    /// <summary>Has an agent do something, and gets what it says of it.</summary>
    public Task<Outcome<T>> Post<T>(WatchedCluster cluster, PodState agent, string path, CancellationToken stop) where T : class =>
        Ask<T>(cluster, agent, headers => cluster.Client.CoreV1.ConnectPostNamespacedPodProxyWithPathWithHttpMessagesAsync(Page(agent), agent.Namespace, path, customHeaders: headers, cancellationToken: stop), stop);

    private static string Page(PodState agent) => $"{agent.Name}:{Manifests.StatusPort}";

    private async Task<Outcome<T>> Ask<T>(WatchedCluster cluster, PodState agent, Func<Dictionary<string, IReadOnlyList<string>>, Task<HttpOperationResponse<Stream>>> ask, CancellationToken stop) where T : class
    {
        try
        {
            using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
            patience.CancelAfter(Patience);
            using var answer = await ask(new() { [AgentKey.Header] = [await keys.Of(cluster.Id, stop)] }).WaitAsync(patience.Token);
            await using var body = answer.Body;
            return (await JsonSerializer.DeserializeAsync<T>(body, JsonSerializerOptions.Web, patience.Token))!;
        }
        catch (HttpOperationException refused) when ((int)refused.Response.StatusCode == 404)
        {
            return new Problem(404, "The agent knows nothing of it.", "It has not read it since it started, or its revision is older than this question: apply the plan again under Arrivals.");
        }
        catch (HttpOperationException refused) when ((int)refused.Response.StatusCode == 403)
        {
            return new Problem(409, "The agent does not know this server's key.", $"{agent.Name} was rolled out before there was one, or the account may not use the pod proxy. Roll the plan out again under Collect. ({InventoryWatch.Words(refused)})");
        }
        catch (Exception trouble) when (trouble is HttpOperationException or HttpRequestException or JsonException or IOException || (trouble is OperationCanceledException && !stop.IsCancellationRequested))
        {
            return new Problem(502, $"The agent {agent.Name} does not answer.", InventoryWatch.Words(trouble));
        }
    }

    /// <summary>Agents that are ready, the newest of each node.</summary>
    public static IReadOnlyList<PodState> Agents(Inventory inventory) =>
    [
        .. inventory.Pods.Where(pod => pod.Namespace == Manifests.Namespace && pod.Workload == Manifests.Agent && pod.Ready)
            .GroupBy(pod => pod.Node).Select(group => group.MaxBy(pod => pod.Created)!).OrderBy(pod => pod.Node, StringComparer.Ordinal),
    ];
}
