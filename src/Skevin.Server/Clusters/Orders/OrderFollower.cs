using Skevin.Server.Live;

namespace Skevin.Server.Clusters.Orders;

/// <summary>Connects what was ordered as soon as it is built; a restart goes on where it was.</summary>
public sealed class OrderFollower(OrderBook book, Provider provider, ConnectCluster connect, LiveFeed feed, TimeProvider clock, ILogger<OrderFollower> log) : BackgroundService
{
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(2);

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(Every);
        try
        {
            while (await timer.WaitForNextTickAsync(stoppingToken))
            {
                try
                {
                    foreach (var order in (await book.All(stoppingToken)).Where(order => order.ConnectedAt is null))
                        await Follow(order, stoppingToken);
                }
                catch (Npgsql.NpgsqlException trouble)
                {
                    log.LogWarning(trouble, "Orders could not be read; they are read again in {Seconds} s", Every.TotalSeconds);
                }
            }
        }
        catch (OperationCanceledException)
        {
            // Stopping.
        }
    }

    private async Task Follow(KeptOrder order, CancellationToken stop)
    {
        if ((await provider.Cluster(order.Order.Name, stop)).Value?.Kubeconfig is not { } kubeconfig)
            return;
        var connected = await connect.Run(new ConnectRequest(order.Order.Name, kubeconfig), order.OrderedBy, stop);
        // 409: another server was quicker.
        if (connected.Problem is { Status: not 409 } problem)
        {
            log.LogWarning("{Cluster} is built but could not be connected: {Title} {Detail} It is tried again", order.Order.Name, problem.Title, problem.Detail);
            return;
        }
        await book.Connected(order.Order.Name, clock.GetUtcNow(), stop);
        feed.Tell("inventory", order.Order.Name);
    }
}
