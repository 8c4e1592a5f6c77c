using System.Collections.Concurrent;
using k8s.Autorest;
using Skevin.ClusterApi;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using Skevin.Server.Clusters;
using Skevin.Server.Setup;

namespace Skevin.Server.Collection;

/// <summary>Looks before a roll-out at what would hold it up; what the account may is asked of the cluster itself.</summary>
public sealed class CheckPlan(SkevinOptions options, TimeProvider clock)
{
    private const int AtOnce = 8;
    private static readonly TimeSpan Remembered = TimeSpan.FromSeconds(60);
    private readonly ConcurrentDictionary<(int Cluster, RollOutRight Right), (bool Allowed, DateTimeOffset At)> _known = new();

    /// <summary>Does it.</summary>
    public async Task<IReadOnlyList<ReadinessItem>> Run(WatchedCluster cluster, CollectionPlan plan, CancellationToken stop) =>
        Preflight.Of(plan, cluster.Watch.Current, new PreflightEvidence(await Denied(cluster, Preflight.RightsFor(plan), stop), new Uri(options.Address), cluster.Client.BaseUri, options.AgentImage));

    private async Task<IReadOnlyList<RollOutRight>?> Denied(WatchedCluster cluster, IReadOnlyList<RollOutRight> rights, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var denied = new ConcurrentBag<RollOutRight>();
        try
        {
            using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
            patience.CancelAfter(TimeSpan.FromSeconds(10));
            await Parallel.ForEachAsync(rights, new ParallelOptions { MaxDegreeOfParallelism = AtOnce, CancellationToken = patience.Token }, async (asked, cancel) =>
            {
                if (!_known.TryGetValue((cluster.Id, asked), out var known) || now - known.At > Remembered)
                    _known[(cluster.Id, asked)] = known = ((await ManifestApply.May(cluster.Client, asked.Verb, asked.Group, asked.Resource, null, cancel)).Allowed, now);
                if (!known.Allowed)
                    denied.Add(asked);
            });
        }
        catch (Exception away) when (away is HttpOperationException or HttpRequestException || (away is OperationCanceledException && !stop.IsCancellationRequested))
        {
            return null;
        }
        return [.. denied.OrderBy(right => right.Verb, StringComparer.Ordinal).ThenBy(right => right.Resource, StringComparer.Ordinal)];
    }
}
