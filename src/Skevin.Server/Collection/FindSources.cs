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
        var plan = (await plans.Revisions(cluster.Id, stop)).FirstOrDefault()?.Plan ?? new CollectionPlan(null);
        var running = clock.GetUtcNow().ToUnixTimeSeconds() / 60;
        await using var command = store.Database.CreateCommand("select signal, source, sum(samples)::float8 from arrival_minute where cluster_id = @cluster and minute >= @from and minute < @to group by signal, source");
        command.Parameters.AddWithValue("cluster", cluster.Id);
        command.Parameters.AddWithValue("from", running - OverMinutes);
        command.Parameters.AddWithValue("to", running);
        var rates = new Dictionary<(string, string), double>();
        await using var rows = await command.ExecuteReaderAsync(stop);
        while (await rows.ReadAsync(stop))
            rates[(rows.GetString(0), rows.GetString(1))] = rows.GetDouble(2) / (OverMinutes * 60);
        return Catalogue.Of(cluster.Watch.Current.Visible(cluster.Name, user.Scope()), plan, new SourceRates(rates));
    }
}
