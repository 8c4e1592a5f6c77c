using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Nodes;
using Skevin.Core.Collection;
using Skevin.StandIn.Api;
using Skevin.StandIn.Control;
using Skevin.StandIn.Model;
using Skevin.StandIn.Telemetry;

namespace Skevin.StandIn;

/// <summary>Where the stand-in listens and what it begins with.</summary>
/// <param name="Folder">Its state.</param>
/// <param name="Port">Cluster API of the first cluster; the next ports are the second cluster, the pods and the control.</param>
/// <param name="History">How much of the past is made at the first start.</param>
/// <param name="CoarseHistory">How much before that is made afterwards, coarser, in the background.</param>
/// <param name="Seed">Seed of all randomness.</param>
public sealed record StandInOptions(string Folder, int Port, TimeSpan History, TimeSpan CoarseHistory = default, int Seed = 20261124);

/// <summary>The simulated clusters with their servers, hosted agents, faults and message sink.</summary>
public sealed class StandInHost : IAsyncDisposable
{
    private const int MostMessages = 500;
    private static readonly TimeSpan CatchUpStep = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan PastExport = TimeSpan.FromSeconds(60);

    private readonly StandInOptions _options;
    private readonly SimClock _clock;
    private readonly HostedCluster[] _clusters;
    private readonly ClusterFaults _faults;
    private readonly ClusterProvider _provider;
    private readonly List<WebApplication> _servers = [];
    private readonly List<JsonObject> _messages = [];
    private readonly CancellationTokenSource _stop = new();
    private readonly DateTimeOffset _begun;
    private readonly CoarsePast? _past;
    private Task? _loop;
    private Task? _living;

    private StandInHost(StandInOptions options)
    {
        _options = options;
        Directory.CreateDirectory(options.Folder);
        var kept = new[] { "larkfield-north", "larkfield-south" }.Select(name => Read(StateFile(name))).ToArray();
        var now = TimeProvider.System.GetUtcNow();
        var first = kept.All(state => state is null);
        _clock = new SimClock(first && options.History > TimeSpan.Zero ? OnGrid(now - options.History) : null);
        _begun = _clock.GetUtcNow();
        var faults = new Faults();
        SimCluster[] models =
        [
            new SimCluster("larkfield-north", 1, 5, faults, options.Seed, _begun, new PodLogs(Path.Combine(options.Folder, "larkfield-north"))),
            new SimCluster("larkfield-south", 2, 3, new Faults(), options.Seed + 7, _begun, new PodLogs(Path.Combine(options.Folder, "larkfield-south"))),
        ];
        foreach (var (model, state) in models.Zip(kept))
            if (state is not null)
                model.Load(state);
        _faults = new ClusterFaults(models[0], faults);
        // Whoever looks at the model sees it as it is at the full second, so that a pass stamped with it finds just that.
        void Settle()
        {
            if (_clock.FollowsRealTime)
                foreach (var model in models)
                    model.Advance(OnSecond(_clock.GetUtcNow()));
        }
        var network = new PodNetwork(models) { Port = options.Port + 2, Settle = Settle };
        _clusters = [.. models.Select((model, i) =>
        {
            var token = KeptToken(model.Name);
            var hosted = new HostedCluster(model, _clock, network, Path.Combine(options.Folder, model.Name), token, options.Port + i, Settle);
            File.WriteAllText(KubeconfigPath(model.Name), Kubeconfig.Write(model.Name, hosted.Address, token));
            return hosted;
        })];
        _servers.Add(Loopback.Serve(network.Port, app => app.Run(network.Handle)));
        var provider = _provider = new ClusterProvider(options.Folder, network, faults, models.Select(model => model.Name).ToHashSet());
        provider.Load();
        _servers.Add(Loopback.Serve(options.Port + 3, app =>
        {
            MapControl(app);
            provider.Map(app);
        }));
        _past = CoarsePast.Of(options.Folder, models[0], options.Seed, first && options.History > TimeSpan.Zero ? _begun : null, options.CoarseHistory);
    }

    /// <summary>Starts everything.</summary>
    public static async Task<StandInHost> Start(StandInOptions options)
    {
        var host = new StandInHost(options);
        foreach (var cluster in host._clusters)
            await cluster.Start();
        foreach (var server in host._servers)
            await server.StartAsync();
        host._provider.Start();
        host._loop = Task.Run(() => host.Loop(host._stop.Token));
        return host;
    }

    /// <summary>A cluster of the model, to compare with.</summary>
    public SimCluster Cluster(string name) => _clusters.Single(cluster => cluster.Model.Name == name).Model;

    /// <summary>Where a cluster's kubeconfig lies.</summary>
    public string KubeconfigPath(string cluster) => Path.Combine(_options.Folder, cluster + ".kubeconfig");

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        if (_loop is { } loop)
            await loop;
        if (_living is { } living)
            await living;
        foreach (var cluster in _clusters)
            await cluster.Agents.EndAll();
        Save();
        await _provider.DisposeAsync();
        foreach (var cluster in _clusters)
            await cluster.DisposeAsync();
        if (_past is not null)
            await _past.DisposeAsync();
        foreach (var server in _servers)
            await server.DisposeAsync();
        _stop.Dispose();
    }

    private async Task Loop(CancellationToken stop)
    {
        var saved = DateTimeOffset.MinValue;
        try
        {
            while (!stop.IsCancellationRequested)
            {
                if (!_clock.FollowsRealTime)
                {
                    await CatchUp(stop);
                    continue;
                }
                foreach (var cluster in _clusters)
                    await cluster.Follow(OnSecond(_clock.GetUtcNow()), stop);
                foreach (var cluster in _clusters)
                    await cluster.Export(stop);
                _living ??= _past is null ? Task.CompletedTask : Task.Run(() => Live(_past, stop), CancellationToken.None);
                if (_clock.GetUtcNow() - saved > TimeSpan.FromSeconds(15))
                {
                    Save();
                    saved = _clock.GetUtcNow();
                }
                await Task.Delay(TimeSpan.FromSeconds(1), stop);
            }
        }
        catch (OperationCanceledException)
        {
            // Stopping.
        }
    }

    // The past is lived through at full speed: cluster, agents and pushes step by step, as they would by the clock.
    private async Task CatchUp(CancellationToken stop)
    {
        // The second cluster is connected by nobody yet, so nobody reads its past; it is caught up with at the end.
        var cluster = _clusters[0];
        if (!cluster.Collected)
        {
            await Task.Delay(100, stop);
            return;
        }
        // Steps end on the grid the agents' passes lie on, so that none of them comes late.
        var next = cluster.Agents.AllReady ? OnGrid(_clock.GetUtcNow()) + CatchUpStep : _clock.GetUtcNow() + TimeSpan.FromSeconds(1);
        if (next >= TimeProvider.System.GetUtcNow())
            _clock.Release();
        else if (!await cluster.LiveThrough(next, PastExport, CatchUpStep, stop))
            await Task.Delay(100, stop);
    }

    private static async Task Live(CoarsePast past, CancellationToken stop)
    {
        try
        {
            await past.Run(stop);
        }
        catch (OperationCanceledException)
        {
            // Stopping; it goes on at the next start.
        }
    }

    private static DateTimeOffset OnSecond(DateTimeOffset moment) => new(moment.UtcTicks / TimeSpan.TicksPerSecond * TimeSpan.TicksPerSecond, TimeSpan.Zero);

    private static DateTimeOffset OnGrid(DateTimeOffset moment) => new(moment.UtcTicks / CatchUpStep.Ticks * CatchUpStep.Ticks, TimeSpan.Zero);

    private void MapControl(WebApplication app)
    {
        app.MapGet("/faults", () => _faults.List().Select(fault => new { name = fault.Name, title = fault.Title, on = fault.On }));
        app.MapPut("/faults/{name}", (string name, FaultSwitch body) => _faults.Set(name, body.On) ? Results.NoContent() : Results.NotFound());
        app.MapGet("/clock", () => new { now = _clock.GetUtcNow(), begun = _begun, catchingUp = !_clock.FollowsRealTime, past = _living is { IsCompleted: false } ? _past?.Progress : null });
        app.MapPost("/hook", async (HttpContext context) =>
        {
            var body = await JsonNode.ParseAsync(context.Request.Body) as JsonObject ?? [];
            lock (_messages)
            {
                _messages.Add(new JsonObject { ["receivedAt"] = DateTimeOffset.UtcNow.ToString("O", CultureInfo.InvariantCulture), ["body"] = body });
                if (_messages.Count > MostMessages)
                    _messages.RemoveAt(0);
            }
            return Results.NoContent();
        });
        app.MapGet("/messages", () =>
        {
            lock (_messages)
                return Results.Text(new JsonArray([.. _messages.Select(message => message.DeepClone())]).ToJsonString(), "application/json");
        });
    }

    private string StateFile(string cluster) => Path.Combine(_options.Folder, cluster + ".json");

    private void Save()
    {
        // The past is not kept half made: a stop during the first start begins it anew from what the agents have sent.
        foreach (var cluster in _clusters)
        {
            var file = StateFile(cluster.Model.Name);
            File.WriteAllText(file + ".new", JsonSerializer.Serialize(cluster.Model.Save()));
            File.Move(file + ".new", file, overwrite: true);
        }
        _provider.Save();
    }

    private static SimClusterState? Read(string file) =>
        File.Exists(file) ? JsonSerializer.Deserialize<SimClusterState>(File.ReadAllText(file)) : null;

    private string KeptToken(string cluster)
    {
        var file = Path.Combine(_options.Folder, cluster + ".admin-token");
        if (!File.Exists(file))
            File.WriteAllText(file, Convert.ToHexString(RandomNumberGenerator.GetBytes(24)).ToLowerInvariant());
        return File.ReadAllText(file);
    }

    private sealed record FaultSwitch(bool On);
}
