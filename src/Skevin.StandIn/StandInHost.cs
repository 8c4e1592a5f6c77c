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
/// <param name="Seed">Seed of all randomness.</param>
public sealed record StandInOptions(string Folder, int Port, TimeSpan History, int Seed = 20261124);

/// <summary>The simulated clusters with their servers, hosted agents, faults and message sink.</summary>
public sealed class StandInHost : IAsyncDisposable
{
    private const int MostMessages = 500;
    private static readonly TimeSpan CatchUpStep = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan PastExport = TimeSpan.FromSeconds(60);

    private readonly StandInOptions _options;
    private readonly SimClock _clock;
    private readonly SimCluster[] _clusters;
    private readonly HostedAgents[] _agents;
    private readonly SpanExporter[] _spans;
    private readonly FlowExporter[][] _flows;
    private DateTimeOffset _exported;
    private readonly ClusterFaults _faults;
    private readonly List<WebApplication> _servers = [];
    private readonly List<JsonObject> _messages = [];
    private readonly CancellationTokenSource _stop = new();
    private readonly DateTimeOffset _begun;
    private Task? _loop;

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
        _clusters =
        [
            new SimCluster("larkfield-north", 1, 5, faults, options.Seed, _begun, new PodLogs(Path.Combine(options.Folder, "larkfield-north"))),
            new SimCluster("larkfield-south", 2, 3, new Faults(), options.Seed + 7, _begun, new PodLogs(Path.Combine(options.Folder, "larkfield-south"))),
        ];
        foreach (var (cluster, state) in _clusters.Zip(kept))
            if (state is not null)
                cluster.Load(state);
        _faults = new ClusterFaults(_clusters[0], faults);
        // Whoever looks at the model sees it as it is at the full second, so that a pass stamped with it finds just that.
        void Settle()
        {
            if (_clock.FollowsRealTime)
                foreach (var cluster in _clusters)
                    cluster.Advance(OnSecond(_clock.GetUtcNow()));
        }
        var network = new PodNetwork(_clusters) { Port = options.Port + 2, Settle = Settle };
        _agents = new HostedAgents[_clusters.Length];
        for (var i = 0; i < _clusters.Length; i++)
        {
            var cluster = _clusters[i];
            var token = KeptToken(cluster.Name);
            var address = new Uri($"http://127.0.0.1:{options.Port + i}");
            var authority = new Authority(cluster.Store, token);
            var folder = Path.Combine(options.Folder, cluster.Name);
            _agents[i] = new HostedAgents(cluster, authority, network, address, folder, _clock);
            File.WriteAllText(KubeconfigPath(cluster.Name), Kubeconfig(cluster.Name, address, token));
            var api = new ClusterApiServer(Scenario.Version, cluster.Store, authority, new ProxyTarget(cluster, _agents[i], _clock, Settle), _clock);
            _servers.Add(Serve(address.Port, app => app.Run(api.Handle)));
        }
        _spans = [.. _clusters.Zip(_agents).Select(pair => new SpanExporter(pair.First.Telemetry, node => pair.Second.PortOn(node, Manifests.SpanPort)))];
        _flows = [.. _clusters.Zip(_agents).Select(pair => pair.First.Nodes.Select((node, n) =>
            new FlowExporter(node, (uint)n + 1, pair.First.Telemetry, own => pair.Second.PortOn(own, Manifests.FlowPort), _clock)).ToArray())];
        _servers.Add(Serve(network.Port, app => app.Run(network.Handle)));
        _servers.Add(Serve(options.Port + 3, MapControl));
    }

    /// <summary>Starts everything.</summary>
    public static async Task<StandInHost> Start(StandInOptions options)
    {
        var host = new StandInHost(options);
        foreach (var server in host._servers)
            await server.StartAsync();
        host._loop = Task.Run(() => host.Loop(host._stop.Token));
        return host;
    }

    /// <summary>A cluster of the model, to compare with.</summary>
    public SimCluster Cluster(string name) => _clusters.Single(cluster => cluster.Name == name);

    /// <summary>Where a cluster's kubeconfig lies.</summary>
    public string KubeconfigPath(string cluster) => Path.Combine(_options.Folder, cluster + ".kubeconfig");

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        if (_loop is { } loop)
            await loop;
        foreach (var agents in _agents)
            await agents.EndAll();
        foreach (var exporter in _flows.SelectMany(exporters => exporters))
            exporter.Dispose();
        Save();
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
                    cluster.Advance(OnSecond(_clock.GetUtcNow()));
                foreach (var cluster in _clusters)
                    WriteHosts(cluster);
                foreach (var agents in _agents)
                    await agents.Sync(byClock: true, stop);
                await Export(stop);
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
        var planned = _clusters[0].Store.Get(new ObjectKey("apps", "daemonsets", Manifests.Namespace, Manifests.Agent)) is not null;
        if (!planned)
        {
            await Task.Delay(100, stop);
            return;
        }
        var ready = _agents[0].AllReady;
        // Steps end on the grid the agents' passes lie on, so that none of them comes late.
        var next = ready ? OnGrid(_clock.GetUtcNow()) + CatchUpStep : _clock.GetUtcNow() + TimeSpan.FromSeconds(1);
        if (next >= TimeProvider.System.GetUtcNow())
        {
            _clock.Release();
            return;
        }
        // The second cluster is connected by nobody yet, so nobody reads its past; it is caught up with at the end.
        _clusters[0].Advance(next);
        _clock.MoveTo(next);
        if (next.Second % 15 == 0)
            WriteHosts(_clusters[0]);
        await _agents[0].Sync(byClock: false, stop);
        if (!ready)
        {
            await Task.Delay(100, stop);
            return;
        }
        if (next - _exported >= PastExport)
        {
            _exported = next;
            await Export(stop);
            await Task.WhenAll(_flows[0].Zip(_clusters[0].Nodes).Select(pair => Arrived(pair.First, pair.Second, stop)));
        }
        await Task.WhenAll(_agents[0].Agents.Where(agent => agent.Next <= next).Select(async agent =>
        {
            await agent.CollectDue(stop);
            await agent.SendPending(stop);
        }));
    }

    private async Task Export(CancellationToken stop)
    {
        foreach (var exporter in _spans)
            await exporter.Flush(stop);
        await Task.WhenAll(_flows.SelectMany(exporters => exporters).Select(exporter => exporter.Flush(stop)));
    }

    // In the past time stands still until the agent has read what was sent to it.
    private async Task Arrived(FlowExporter exporter, string node, CancellationToken stop)
    {
        for (var wait = 0; wait < 200 && _agents[0].AgentOn(node) is { } agent && agent.Flows.Messages < exporter.Messages; wait++)
            await Task.Delay(5, stop);
    }

    private void WriteHosts(SimCluster cluster)
    {
        foreach (var node in cluster.Nodes)
            HostTree.Write(cluster.Telemetry.Logs!.NodeRoot(node), cluster, node, cluster.Booted, _clock.GetUtcNow());
    }

    private static DateTimeOffset OnSecond(DateTimeOffset moment) => new(moment.UtcTicks / TimeSpan.TicksPerSecond * TimeSpan.TicksPerSecond, TimeSpan.Zero);

    private static DateTimeOffset OnGrid(DateTimeOffset moment) => new(moment.UtcTicks / CatchUpStep.Ticks * CatchUpStep.Ticks, TimeSpan.Zero);

    private void MapControl(WebApplication app)
    {
        app.MapGet("/faults", () => _faults.List().Select(fault => new { name = fault.Name, title = fault.Title, on = fault.On }));
        app.MapPut("/faults/{name}", (string name, FaultSwitch body) => _faults.Set(name, body.On) ? Results.NoContent() : Results.NotFound());
        app.MapGet("/clock", () => new { now = _clock.GetUtcNow(), begun = _begun, catchingUp = !_clock.FollowsRealTime });
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

    private static WebApplication Serve(int port, Action<WebApplication> map)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(kestrel => kestrel.ListenLocalhost(port));
        var app = builder.Build();
        map(app);
        return app;
    }

    private string StateFile(string cluster) => Path.Combine(_options.Folder, cluster + ".json");

    private void Save()
    {
        // The past is not kept half made: a stop during the first start begins it anew from what the agents have sent.
        foreach (var cluster in _clusters)
        {
            var file = StateFile(cluster.Name);
            File.WriteAllText(file + ".new", JsonSerializer.Serialize(cluster.Save()));
            File.Move(file + ".new", file, overwrite: true);
        }
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

    private static string Kubeconfig(string cluster, Uri address, string token) => $"""
        apiVersion: v1
        kind: Config
        current-context: {cluster}
        contexts:
          - name: {cluster}
            context: {"{"}cluster: {cluster}, user: keeper{"}"}
        clusters:
          - name: {cluster}
            cluster:
              server: {address}
        users:
          - name: keeper
            user:
              token: {token}

        """;

    private sealed record FaultSwitch(bool On);

    private sealed class ProxyTarget(SimCluster cluster, HostedAgents agents, SimClock clock, Action settle) : IProxyTarget
    {
        private static readonly HttpClient Http = new();

        public JsonObject? StatsSummary(string node)
        {
            settle();
            return Summary(node);
        }

        private JsonObject? Summary(string node) => cluster.Nodes.Contains(node) ? Model.StatsSummary.Of(cluster, node, clock.GetUtcNow()) : null;

        public async Task<(int Status, string ContentType, byte[] Body)> PodPage(string ns, string pod, int port, string path, CancellationToken stop)
        {
            if (port != Manifests.StatusPort || agents.PortOf(ns, pod) is not { } own)
                return (503, "text/plain", System.Text.Encoding.UTF8.GetBytes($"no answer of {ns}/{pod}:{port}"));
            using var answer = await Http.GetAsync($"http://127.0.0.1:{own}/{path}", stop);
            return ((int)answer.StatusCode, answer.Content.Headers.ContentType?.ToString() ?? "text/plain", await answer.Content.ReadAsByteArrayAsync(stop));
        }
    }
}
