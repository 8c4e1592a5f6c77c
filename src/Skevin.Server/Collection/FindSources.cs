using System.Security.Claims;
using Skevin.Core.Collection;
using Skevin.Server.Access;
using Skevin.Server.Clusters;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Collection;

/// <summary>The catalogue of a cluster's sources, in a reader's scope, with what each gave over the last minutes.</summary>
public sealed class FindSources(SampleStore store, PlansInForce plans, TimeProvider clock)
{
    private const int OverMinutes = 5;

    /// <summary>Finds them.</summary>
    public async Task<IReadOnlyList<CatalogueEntry>> Run(WatchedCluster cluster, ClaimsPrincipal user, CancellationToken stop)
    {
        var plan = (await plans.InForce(cluster.Id, stop))?.Plan ?? new CollectionPlan(null);
        var running = clock.GetUtcNow().ToUnixTimeSeconds() / 60;
        var rates = (await StoredRates.BySource(store, cluster.Id, running - OverMinutes, running, stop)).ToDictionary(one => (one.Signal, one.Source), one => one.Items / (OverMinutes * 60));
        return Catalogue.Of(cluster.Watch.Current.Visible(cluster.Name, user.Scope()), plan, new SourceRates(rates));
    }
}
