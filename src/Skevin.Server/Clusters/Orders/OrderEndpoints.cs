using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Core.Clusters;
using Skevin.Server.Access;
using Skevin.Server.Ingest;
using Skevin.Server.People;
using Skevin.Server.Setup;
using Skevin.Storage;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Clusters.Orders;

/// <summary>An order, how far it is, and whether it is what was ordered.</summary>
/// <param name="Stages">As the provider tells them; empty where it does not answer.</param>
/// <param name="Trouble">Why nothing is known of it, or null.</param>
/// <param name="Comparison">What was ordered beside what is there; empty until it is connected.</param>
public sealed record OrderView(
    ClusterOrder Order, string OrderedBy, DateTimeOffset OrderedAt, DateTimeOffset? ConnectedAt, IReadOnlyList<BuildStage> Stages, string? Trouble, IReadOnlyList<OrderedAndFound> Comparison);

/// <summary>Ordering clusters from a provider of machines.</summary>
public static class OrderEndpoints
{
    /// <summary>Adds its services.</summary>
    public static void AddOrders(this IServiceCollection services)
    {
        services.AddHttpClient(Provider.Client, client => client.Timeout = TimeSpan.FromSeconds(10));
        services.AddSingleton<Provider>();
        services.AddSingleton<OrderBook>();
        services.AddSingleton<PlaceOrder>();
        services.AddHostedService<OrderFollower>();
    }

    /// <summary>Maps its endpoints.</summary>
    public static void MapOrders(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/orders", async (ClaimsPrincipal user, OrderBook book, Provider provider, ClusterWatchers watchers, CancellationToken stop) =>
        {
            var seen = (await book.All(stop)).Where(order => user.Scope().Namespaces is null && user.Scope().Sees(order.Order.Name));
            return await Task.WhenAll(seen.Select(order => View(order, provider, watchers, stop)));
        }).Needs(Roles.Reader);
        routes.MapGet("/api/orders/offers", async Task<Results<Ok<OrderOffers>, ProblemHttpResult>> (Provider provider, CancellationToken stop) => (await provider.Offers(stop)).Http()).Needs(Roles.Installer);
        routes.MapPost("/api/orders/review", async Task<Results<Ok<OrderReview>, ProblemHttpResult>> (ClusterOrder body, PlaceOrder place, CancellationToken stop) => (await place.Review(body, stop)).Http()).Needs(Roles.Installer).OnlyReads();
        routes.MapPost("/api/orders", async Task<Results<Ok<OrderReview>, ProblemHttpResult>> (ClusterOrder body, ClaimsPrincipal user, PlaceOrder place, AuditNote note, CancellationToken stop) =>
        {
            note.About = note.Cluster = body.Name;
            return user.Scope().Namespaces is null && user.Scope().Sees(body.Name ?? "") ? (await place.Run(body, user.PersonName(), stop)).Http()
                : new Problem(403, "Not in your scope.", "You may order clusters whose names are in your scope.").Http();
        }).Needs(Roles.Installer).Audits("ordered a cluster");
        routes.MapDelete("/api/orders/{name}", async Task<Results<NoContent, ProblemHttpResult>> (
            string name, ClaimsPrincipal user, OrderBook book, Provider provider, ClusterWatchers watchers, IDbContextFactory<SkevinContext> contexts, SeriesIndex index, IngestTokens tokens, AuditNote note, CancellationToken stop) =>
        {
            note.About = note.Cluster = name;
            if (user.Scope().Namespaces is not null || !user.Scope().Sees(name) || (await book.All(stop)).All(order => order.Order.Name != name))
                return new Problem(404, "No such order.", "It was removed, or is not for you.").Http();
            if (await provider.Remove(name, stop) is { } trouble)
                return trouble.Http();
            if (watchers.Find(name) is { } cluster)
                await DisconnectCluster.Run(cluster, watchers, contexts, index, tokens, stop);
            await book.Forget(name, stop);
            return TypedResults.NoContent();
        }).Needs(Roles.Installer).Audits("removed an ordered cluster");
    }

    private static async Task<OrderView> View(KeptOrder order, Provider provider, ClusterWatchers watchers, CancellationToken stop)
    {
        var told = await provider.Cluster(order.Order.Name, stop);
        return new OrderView(order.Order, order.OrderedBy, order.OrderedAt, order.ConnectedAt, told.Value?.Stages ?? [], told.Problem is { } problem ? $"{problem.Title} {problem.Detail}" : null,
            watchers.Find(order.Order.Name) is { Watch.Complete: true } cluster ? OrderComparison.Of(order.Order, order.Sizes, cluster.Watch.Current) : []);
    }
}
