using System.Text.Json.Nodes;
using Skevin.Core.Collection;
using Skevin.StandIn.Api;
using Skevin.StandIn.Model;
using Skevin.StandIn.Telemetry;

namespace Skevin.StandIn.Control;

/// <summary>A cluster of the model with all that makes it answer: its API, the real agents in its agent pods, the exporters of its pods and nodes.</summary>
internal sealed class HostedCluster : IAsyncDisposable
{
    private readonly SimClock _clock;
    private readonly SpanExporter _spans;
    private readonly FlowExporter[] _flows;
    private readonly SyslogSender _syslog;
    private readonly WebApplication _api;
    private DateTimeOffset _exported;

    /// <summary>Makes it; <see cref="Start"/> begins to answer.</summary>
    /// <param name="cluster">The model.</param>
    /// <param name="clock">The model's time.</param>
    /// <param name="network">The pods' endpoints.</param>
    /// <param name="folder">Where its nodes' and pods' files lie.</param>
    /// <param name="token">The administrator's token.</param>
    /// <param name="port">Of its API.</param>
    /// <param name="settle">Brings the model to the present before somebody looks at it.</param>
    public HostedCluster(SimCluster cluster, SimClock clock, PodNetwork network, string folder, string token, int port, Action settle)
    {
        (Model, _clock, Address) = (cluster, clock, new Uri($"http://127.0.0.1:{port}"));
        var authority = new Authority(cluster.Store, token);
        Agents = new HostedAgents(cluster, authority, network, Address, folder, clock);
        network.Programs.Add(Agents.SpanPortOf);
        var api = new ClusterApiServer(cluster.Version, cluster.Store, authority, new ClusterProxy(cluster, Agents, clock, settle), clock);
        _api = Loopback.Serve(port, app => app.Run(api.Handle));
        _spans = new SpanExporter(cluster.Telemetry, node => Agents.PortOn(node, Manifests.SpanPort));
        _flows = [.. cluster.Nodes.Select((node, n) => new FlowExporter(node, (uint)n + 1, cluster.Telemetry, own => Agents.PortOn(own, Manifests.FlowPort), clock))];
        _syslog = new SyslogSender(cluster.Nodes, node => Agents.PortOn(node, Manifests.SyslogPort), clock);
    }

    /// <summary>The model.</summary>
    public SimCluster Model { get; }

    /// <summary>Of its API.</summary>
    public Uri Address { get; }

    /// <summary>The agents in its pods.</summary>
    public HostedAgents Agents { get; }

    /// <summary>Whether something is collected from it.</summary>
    public bool Collected => Model.Store.Get(new ObjectKey("apps", "daemonsets", Manifests.Namespace, Manifests.Agent)) is not null;

    /// <summary>Begins to answer.</summary>
    public Task Start() => _api.StartAsync();

    /// <summary>Moves the model, its files and the agents to the present.</summary>
    public async Task Follow(DateTimeOffset now, CancellationToken stop)
    {
        Model.Advance(now);
        WriteHosts();
        await Agents.Sync(byClock: true, stop);
    }

    /// <summary>Sends what spans and flows wait.</summary>
    public Task Export(CancellationToken stop) => Task.WhenAll(_flows.Select(exporter => exporter.Flush(stop)).Append(_spans.Flush(stop)).Append(_syslog.Flush(stop)));

    /// <summary>Lives through one step of the past, as by the clock: the model, then what the agents read and send.</summary>
    /// <param name="next">End of the step.</param>
    /// <param name="export">How often spans and flows are sent.</param>
    /// <param name="pass">How often the agents look whether something is due.</param>
    /// <param name="stop">Cancels.</param>
    /// <returns>Whether the agents were ready; otherwise nothing was read.</returns>
    public async Task<bool> LiveThrough(DateTimeOffset next, TimeSpan export, TimeSpan pass, CancellationToken stop)
    {
        var ready = Agents.AllReady;
        Model.Advance(next);
        _clock.MoveTo(next);
        // The agents' passes lie on a grid; one that comes late is left out.
        if (ready && next.UtcTicks % pass.Ticks != 0)
            return true;
        if (next.Second % 15 == 0)
            WriteHosts();
        await Agents.Sync(byClock: false, stop);
        if (!ready)
            return false;
        if (next - _exported >= export)
        {
            _exported = next;
            await Export(stop);
            await Task.WhenAll(_flows.Zip(Model.Nodes).Select(pair => Arrived(pair.First, pair.Second, stop)));
        }
        await Task.WhenAll(Agents.Agents.Where(agent => agent.Next <= next).Select(async agent =>
        {
            await agent.CollectDue(stop);
            await agent.SendPending(stop);
        }));
        return true;
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await Agents.EndAll();
        foreach (var exporter in _flows)
            exporter.Dispose();
        _syslog.Dispose();
        await _api.DisposeAsync();
    }

    // In the past time stands still until the agent has read what was sent to it.
    private async Task Arrived(FlowExporter exporter, string node, CancellationToken stop)
    {
        for (var wait = 0; wait < 200 && Agents.AgentOn(node) is { } agent && agent.Flows.Messages < exporter.Messages; wait++)
            await Task.Delay(5, stop);
    }

    private void WriteHosts()
    {
        foreach (var node in Model.Nodes)
            HostTree.Write(Model.Telemetry.Logs!.NodeRoot(node), Model, node, Model.Booted, _clock.GetUtcNow());
    }
}

/// <summary>What a cluster's API passes on: the stats of its nodes, the pages of its agent pods.</summary>
internal sealed class ClusterProxy(SimCluster cluster, HostedAgents agents, SimClock clock, Action settle) : IProxyTarget
{
    private static readonly HttpClient Http = new();

    /// <inheritdoc/>
    public JsonObject? StatsSummary(string node)
    {
        settle();
        return cluster.Nodes.Contains(node) ? Model.StatsSummary.Of(cluster, node, clock.GetUtcNow()) : null;
    }

    /// <inheritdoc/>
    public string? RuntimePage(string node)
    {
        settle();
        return cluster.Nodes.Contains(node) ? Model.RuntimePage.Of(cluster, node, clock.GetUtcNow()) : null;
    }

    /// <inheritdoc/>
    public async Task<(int Status, string ContentType, byte[] Body)> PodPage(string ns, string pod, int port, string path, HttpRequest asked, CancellationToken stop)
    {
        if (port != Manifests.StatusPort || agents.PortOf(ns, pod) is not { } own)
            return (503, "text/plain", System.Text.Encoding.UTF8.GetBytes($"no answer of {ns}/{pod}:{port}"));
        using var request = new HttpRequestMessage(new HttpMethod(asked.Method), $"http://127.0.0.1:{own}/{path}");
        if (asked.Headers.TryGetValue(AgentKey.Header, out var key))
            request.Headers.TryAddWithoutValidation(AgentKey.Header, (string?)key);
        using var answer = await Http.SendAsync(request, stop);
        return ((int)answer.StatusCode, answer.Content.Headers.ContentType?.ToString() ?? "text/plain", await answer.Content.ReadAsByteArrayAsync(stop));
    }
}

/// <summary>Web servers on loopback.</summary>
internal static class Loopback
{
    /// <summary>Makes one; it is started later.</summary>
    public static WebApplication Serve(int port, Action<WebApplication> map)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.Services.ConfigureHttpJsonOptions(json => json.SerializerOptions.Converters.Add(new System.Text.Json.Serialization.JsonStringEnumConverter(System.Text.Json.JsonNamingPolicy.CamelCase)));
        builder.WebHost.ConfigureKestrel(kestrel => kestrel.ListenLocalhost(port));
        var app = builder.Build();
        map(app);
        return app;
    }

    /// <summary>A port nobody listens on now.</summary>
    public static int FreePort()
    {
        using var listener = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Loopback, 0);
        listener.Start();
        return ((System.Net.IPEndPoint)listener.LocalEndpoint).Port;
    }
}
