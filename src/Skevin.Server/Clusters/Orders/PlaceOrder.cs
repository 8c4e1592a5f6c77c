using Skevin.Core.Clusters;
using Skevin.Server.Setup;

namespace Skevin.Server.Clusters.Orders;

/// <summary>Looks an order through and places it.</summary>
public sealed class PlaceOrder(Provider provider, OrderBook book, ClusterWatchers watchers, TimeProvider clock)
{
    /// <summary>What is wrong with an order, what follows of it and what it makes.</summary>
    public async Task<Outcome<OrderReview>> Review(ClusterOrder? order, CancellationToken stop)
    {
        var looked = await Look(order, stop);
        return looked.Value is { } found ? found.Review : looked.Problem!;
    }

    /// <summary>Places it: kept first, so that a stop in between leaves something to look at and to remove.</summary>
    public async Task<Outcome<OrderReview>> Run(ClusterOrder? order, string by, CancellationToken stop)
    {
        var found = await Look(order, stop);
        if (found.Value is not var (looked, offers))
            return found.Problem!;
        if (looked.Problems.Count > 0)
            return new Problem(400, "The order cannot be placed.", string.Join(" ", looked.Problems.Select(problem => problem.Text)), looked.Problems);
        if (!await book.Keep(new KeptOrder(order!, offers.Sizes, by, clock.GetUtcNow(), null), stop))
            return new Problem(409, "Already ordered.", $"{order!.Name} is on order; nothing was changed.");
        if (await provider.Order(order!, stop) is { } refused)
        {
            await book.Forget(order!.Name, stop);
            return refused;
        }
        return looked;
    }

    private sealed record Looked(OrderReview Review, OrderOffers Offers);

    private async Task<Outcome<Looked>> Look(ClusterOrder? order, CancellationToken stop)
    {
        if (order is null)
            return new Problem(400, "No order.", "Send the order: name, version, groups, families, network, services.");
        var offers = await provider.Offers(stop);
        return offers.Value is { } offered ? new Looked(OrderReview.Of(order, offered, await Taken(stop)), offered) : offers.Problem!;
    }

    private async Task<IReadOnlySet<string>> Taken(CancellationToken stop) => watchers.All.Select(cluster => cluster.Name).Concat((await book.All(stop)).Select(order => order.Order.Name)).ToHashSet();
}
