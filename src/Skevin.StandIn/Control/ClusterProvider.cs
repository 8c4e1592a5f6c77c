using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text.Json;
using Skevin.Core.Clusters;
using Skevin.StandIn.Model;
using Skevin.StandIn.Telemetry;

namespace Skevin.StandIn.Control;

/// <summary>
/// Builds clusters to order and takes them away, over the protocol of docs/formats/cluster-order.md. What it says of a stage is read off the model.
/// </summary>
internal sealed class ClusterProvider(string folder, PodNetwork network, Faults switches, IReadOnlySet<string> taken) : IAsyncDisposable
{
    private const int MostClusters = 4;
    private const int FirstNumber = 3;
    private readonly SemaphoreSlim _one = new(1);
    private readonly CancellationTokenSource _stop = new();
    // What is ordered has no past: it follows the real time, whatever the demo's clusters live through.
    private readonly SimClock _clock = new(null);
    private Task? _loop;
    private ImmutableDictionary<string, OrderedCluster> _clusters = ImmutableDictionary<string, OrderedCluster>.Empty;

    /// <summary>What can be ordered.</summary>
    public static readonly OrderOffers Offers = new(
        "practice provider",
        [new(Scenario.Version, "the newest"), new("v1.32.6", "the one before; no change of a running pod's resources in place")],
        [new("small", 2, 8, 0.04), new("middle", 4, 16, 0.09), new("large", 8, 32, 0.17)],
        [new("plain", "plain, both address families")],
        [.. BaseServices.Offered.Select(service => new OfferedPart(service.Name, service.Title))], 12, "EUR");

    /// <summary>Clusters it has built or builds.</summary>
    public IEnumerable<OrderedCluster> Clusters => _clusters.Values;

    private string Folder => Path.Combine(folder, "ordered");

    /// <summary>Goes on with what was built before.</summary>
    public void Load()
    {
        if (!Directory.Exists(Folder))
            return;
        foreach (var file in Directory.EnumerateFiles(Folder, "*.order.json"))
        {
            var kept = JsonSerializer.Deserialize<KeptOrder>(File.ReadAllText(file))!;
            var state = StateFile(kept.Order.Name);
            Add(kept, File.Exists(state) ? JsonSerializer.Deserialize<SimClusterState>(File.ReadAllText(state)) : null);
        }
    }

    /// <summary>Maps the protocol.</summary>
    public void Map(WebApplication app)
    {
        app.MapGet("/provider/offers", () => Offers);
        app.MapPost("/provider/clusters", async (ClusterOrder order, CancellationToken stop) =>
        {
            await _one.WaitAsync(stop);
            try
            {
                var review = OrderReview.Of(order, Offers, taken.Concat(_clusters.Keys).ToHashSet());
                if (review.Problems.Count > 0)
                    return Results.Problem(statusCode: 400, title: "The order cannot be carried out.", detail: string.Join(" ", review.Problems.Select(problem => problem.Text)));
                if (_clusters.Count >= MostClusters)
                    return Results.Problem(statusCode: 409, title: "There are no machines left.", detail: $"The provider has machines for {MostClusters} clusters. Remove one that is not needed.");
                var number = Enumerable.Range(FirstNumber, MostClusters).First(free => _clusters.Values.All(one => one.Kept.Number != free));
                Add(new KeptOrder(order, Offers.Sizes, Convert.ToHexString(RandomNumberGenerator.GetBytes(24)).ToLowerInvariant(), Loopback.FreePort(), number, 0, _clock.GetUtcNow()), null);
                Save();
                return Results.Created($"/provider/clusters/{order.Name}", null);
            }
            finally
            {
                _one.Release();
            }
        });
        app.MapGet("/provider/clusters/{name}", (string name) => _clusters.GetValueOrDefault(name) is not { } cluster ? Results.NotFound()
            : Results.Ok(new { stages = cluster.Stages, kubeconfig = cluster.Done ? Kubeconfig.Write(name, cluster.Hosted.Address, cluster.Kept.Token) : null }));
        app.MapDelete("/provider/clusters/{name}", async (string name, CancellationToken stop) =>
        {
            if (_clusters.GetValueOrDefault(name) is not { } cluster)
                return Results.NotFound();
            ImmutableInterlocked.TryRemove(ref _clusters, name, out _);
            Show();
            await cluster.Hosted.DisposeAsync();
            File.Delete(OrderFile(name));
            File.Delete(StateFile(name));
            if (Directory.Exists(Path.Combine(folder, name)))
                Directory.Delete(Path.Combine(folder, name), recursive: true);
            return Results.NoContent();
        });
    }

    /// <summary>Begins to build.</summary>
    public void Start() => _loop = Task.Run(Loop);

    private async Task Loop()
    {
        try
        {
            while (true)
            {
                foreach (var cluster in _clusters.Values)
                {
                    var now = OnSecond(_clock.GetUtcNow());
                    await cluster.Advance(now, _stop.Token);
                    if (cluster.Listens)
                        await cluster.Hosted.Follow(now, _stop.Token);
                }
                await Task.Delay(TimeSpan.FromSeconds(1), _stop.Token);
            }
        }
        catch (OperationCanceledException)
        {
            // Stopping.
        }
    }

    private static DateTimeOffset OnSecond(DateTimeOffset moment) => new(moment.UtcTicks / TimeSpan.TicksPerSecond * TimeSpan.TicksPerSecond, TimeSpan.Zero);

    /// <summary>Keeps everything.</summary>
    public void Save()
    {
        Directory.CreateDirectory(Folder);
        foreach (var (name, cluster) in _clusters)
        {
            Write(OrderFile(name), cluster.Kept);
            Write(StateFile(name), cluster.Model.Save());
        }
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        if (_loop is { } loop)
            await loop;
        Save();
        foreach (var cluster in _clusters.Values)
            await cluster.Hosted.DisposeAsync();
        _one.Dispose();
        _stop.Dispose();
    }

    private void Add(KeptOrder kept, SimClusterState? state)
    {
        var cluster = new OrderedCluster(kept, state, switches,
            (model, own) => new HostedCluster(model, _clock, network, Path.Combine(folder, own.Order.Name), own.Token, own.Port, () => model.Advance(OnSecond(_clock.GetUtcNow()))),
            name => new PodLogs(Path.Combine(folder, name)), _clock.GetUtcNow());
        ImmutableInterlocked.TryAdd(ref _clusters, kept.Order.Name, cluster);
        Show();
    }

    private void Show() => network.Ordered = [.. _clusters.Values.Select(cluster => cluster.Model)];

    private string OrderFile(string name) => Path.Combine(Folder, name + ".order.json");

    private string StateFile(string name) => Path.Combine(Folder, name + ".state.json");

    private static void Write<T>(string file, T value)
    {
        File.WriteAllText(file + ".new", JsonSerializer.Serialize(value));
        File.Move(file + ".new", file, overwrite: true);
    }
}
