using Microsoft.EntityFrameworkCore;
using Skevin.Server.Ingest;
using Skevin.Storage;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Clusters;

/// <summary>Forgets a cluster and all that is kept of it.</summary>
internal static class DisconnectCluster
{
    /// <summary>Does it.</summary>
    public static async Task Run(WatchedCluster cluster, ClusterWatchers watchers, IDbContextFactory<SkevinContext> contexts, SeriesIndex index, IngestTokens tokens, CancellationToken stop)
    {
        watchers.End(cluster.Name);
        await using var context = await contexts.CreateDbContextAsync(stop);
        await context.Clusters.Where(row => row.Id == cluster.Id).ExecuteDeleteAsync(stop);
        index.RemoveCluster(cluster.Id);
        // Its tokens went with it.
        tokens.Forget();
    }
}
