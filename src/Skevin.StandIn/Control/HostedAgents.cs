using System.Collections.Concurrent;
using System.Net;
using System.Text.Json.Nodes;
using Skevin.Agent;
using Skevin.Core.Collection;
using Skevin.StandIn.Api;
using Skevin.StandIn.Model;

namespace Skevin.StandIn.Control;

/// <summary>
/// Runs the real agent in every agent pod of a cluster: under the pod's service account, with the files its volumes would
/// hold. The seams are the dialling, the file root and the clock.
/// </summary>
public sealed class HostedAgents(SimCluster cluster, Authority authority, PodNetwork network, Uri clusterApi, string folder, SimClock clock)
{
    private sealed record Hosted(SimPod Pod, CollectingAgent Agent, WebApplication Page, int Port, int? SpanPort, CancellationTokenSource Stop)
    {
        public Task? Running { get; set; }
    }

    // The past goes by quickly, so it is sealed in larger pieces.
    private static readonly TimeSpan LiveSeal = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan PastSeal = TimeSpan.FromSeconds(60);

    private readonly ConcurrentDictionary<string, Hosted> _agents = new();
    private readonly Dictionary<string, string> _written = [];

    /// <summary>Agents that are up.</summary>
    public IReadOnlyList<CollectingAgent> Agents => [.. _agents.Values.Select(hosted => hosted.Agent)];

    /// <summary>Whether every agent pod of the cluster is ready and its agent up.</summary>
    public bool AllReady
    {
        get
        {
            var pods = cluster.Pods.Where(IsAgent).ToArray();
            return pods.Length > cluster.Nodes.Count - 1 && pods.All(pod => pod.Step == PodStep.Ready && _agents.ContainsKey(pod.Uid));
        }
    }

    /// <summary>Starts agents of pods that came, stops those of pods that went, and brings their files up to date.</summary>
    /// <param name="byClock">Whether agents run by the clock; otherwise somebody calls their passes.</param>
    /// <param name="stop">Cancels.</param>
    public async Task Sync(bool byClock, CancellationToken stop)
    {
        var sealEvery = byClock ? LiveSeal : PastSeal;
        foreach (var hosted in _agents.Values)
            hosted.Agent.SealEvery = sealEvery;
        var pods = cluster.Pods.Where(pod => IsAgent(pod) && pod.Running).ToDictionary(pod => pod.Uid);
        foreach (var (uid, hosted) in _agents)
            if (!pods.ContainsKey(uid) && _agents.TryRemove(uid, out _))
                await End(hosted);
        // A new agent takes over its node's buffer only when the old one has let go of it.
        foreach (var pod in pods.Values)
        {
            WriteFiles(pod);
            if (!_agents.TryGetValue(pod.Uid, out var hosted))
                _agents[pod.Uid] = hosted = await Begin(pod, sealEvery, stop);
            if (byClock && hosted.Running is null)
                hosted.Running = Task.Run(() => hosted.Agent.Run(hosted.Stop.Token), CancellationToken.None);
        }
    }

    /// <summary>Stops all agents; what they have not sent stays in their buffers.</summary>
    public async Task EndAll()
    {
        foreach (var (uid, hosted) in _agents)
            if (_agents.TryRemove(uid, out _))
                await End(hosted);
    }

    /// <summary>The loopback port on which a pod's agent answers, or null.</summary>
    public int? PortOf(string ns, string pod) =>
        _agents.Values.FirstOrDefault(hosted => hosted.Pod.Namespace == ns && hosted.Pod.Name == pod)?.Port;

    /// <summary>The loopback port on which a collector for the whole cluster takes spans; null where it is none, or another port is asked for.</summary>
    public int? SpanPortOf(SimPod pod, int port) => port == Manifests.SpanPort && _agents.GetValueOrDefault(pod.Uid) is { Agent.Gathers: true } hosted ? hosted.SpanPort : null;

    /// <summary>The loopback port that stands for a port of the agent's on a node; null where none listens.</summary>
    public int? PortOn(string node, int port) => OnNode(node) is not { } hosted ? null : port switch
    {
        Manifests.SpanPort => hosted.SpanPort,
        Manifests.FlowPort => hosted.Agent.Flows.Port,
        Manifests.SyslogPort => hosted.Agent.Syslog.Port is > 0 and var own ? own : null,
        _ => null,
    };

    /// <summary>The agent of a node, or null while there is none.</summary>
    public CollectingAgent? AgentOn(string node) => OnNode(node)?.Agent;

    private Hosted? OnNode(string node) => _agents.Values.FirstOrDefault(hosted => hosted.Pod.Node == node && hosted.Agent.Flows.Port > 0);

    private static bool IsAgent(SimPod pod) => pod.Container["image"]?.GetValue<string>() == Manifests.Image;

    private string Root(SimPod pod) => Path.Combine(folder, "pods", pod.Uid);

    private string NodeRoot(string node) => Path.Combine(folder, "nodes", node);

    // The buffer is the volume the manifest says: a folder of the node, or one that goes with the pod.
    private string BufferOf(SimPod pod, string root) =>
        pod.Template["spec"]?["volumes"] is JsonArray volumes && volumes.FirstOrDefault(volume => volume?["name"]?.GetValue<string>() == "buffer")?["hostPath"]?["path"]?.GetValue<string>() is { } path
            ? Path.Combine(NodeRoot(pod.Node), path.TrimStart('/'))
            : Path.Combine(root, "buffer");

    private async Task<Hosted> Begin(SimPod pod, TimeSpan sealEvery, CancellationToken stop)
    {
        var root = Root(pod);
        var account = pod.Template["spec"]?["serviceAccountName"]?.GetValue<string>() ?? "default";
        Write(Path.Combine(root, "account", "token"), authority.Issue(pod.Namespace, account));
        var role = pod.Container["args"] is JsonArray { Count: 2 } args && Enum.TryParse<AgentRole>(args[1]!.GetValue<string>(), true, out var given) ? given : AgentRole.Node;
        var agent = new CollectingAgent(new AgentEnvironment(
            role, pod.Node, pod.Name, Path.Combine(root, "configuration", "agent.json"), Path.Combine(root, "ingest", "token"),
            Path.Combine(root, "account", "token"), null, clusterApi, BufferOf(pod, root), NodeRoot(pod.Node), IPAddress.Loopback, 0, 0, (host, port, cancel) => network.Dial(cluster, pod.Node, host, port, cancel), new NodeClock(clock, cluster, pod.Node))
        {
            Resolve = (name, family, _) => Task.FromResult(ServiceNetwork.LookUp(cluster, name, family)),
            SyslogPort = 0,
            DestinationsFolder = Path.Combine(root, "destinations"),
            FreeBytes = () => cluster.FreeBytes(pod.Node) ?? new DriveInfo(Path.GetFullPath(folder)).AvailableFreeSpace,
        })
        { SealEvery = sealEvery };
        var page = AgentHost.Build(agent, "http://127.0.0.1:0", role != AgentRole.State ? "http://127.0.0.1:0" : null);
        await page.StartAsync(stop);
        var ports = page.Urls.Select(url => new Uri(url).Port).ToArray();
        cluster.Telemetry.Logs?.Write(pod, clock.GetUtcNow().ToUnixTimeMilliseconds() * 1_000_000, false, $"skevin agent, {role.ToString().ToLowerInvariant()}, on {pod.Node}");
        return new Hosted(pod, agent, page, ports[0], ports.Length > 1 ? ports[1] : null, new CancellationTokenSource());
    }

    private static async Task End(Hosted hosted)
    {
        await hosted.Stop.CancelAsync();
        if (hosted.Running is { } running)
            await running;
        await hosted.Page.DisposeAsync();
        await hosted.Agent.DisposeAsync();
        hosted.Stop.Dispose();
    }

    private void WriteFiles(SimPod pod)
    {
        var name = pod.Template["spec"]?["volumes"]?.AsArray().Select(volume => volume?["configMap"]?["name"]?.GetValue<string>()).OfType<string>().FirstOrDefault() ?? Manifests.Agent;
        if (cluster.Store.Get(new ObjectKey("", "configmaps", pod.Namespace, name))?.Body["data"]?["agent.json"]?.GetValue<string>() is { } configuration)
            Write(Path.Combine(Root(pod), "configuration", "agent.json"), configuration);
        WriteSecret(pod, Manifests.TokenSecret, "token", "ingest");
        foreach (var destination in (pod.Template["spec"]?["volumes"] as JsonArray ?? []).Where(volume => volume?["name"]?.GetValue<string>().StartsWith("to-", StringComparison.Ordinal) == true))
            WriteSecret(pod, destination!["secret"]!["secretName"]!.GetValue<string>(), "authorization", Path.Combine("destinations", destination["name"]!.GetValue<string>()["to-".Length..]));
    }

    private void WriteSecret(SimPod pod, string secret, string key, string folder)
    {
        if (cluster.Store.Get(new ObjectKey("", "secrets", pod.Namespace, secret))?.Body["data"]?[key]?.GetValue<string>() is { } text)
            Write(Path.Combine(Root(pod), folder, key), System.Text.Encoding.UTF8.GetString(Convert.FromBase64String(text)));
    }

    // Written beside and renamed, as a volume is brought up to date: a reader never sees half a file.
    private void Write(string path, string text)
    {
        if (_written.TryGetValue(path, out var there) && there == text)
            return;
        _written[path] = text;
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        File.WriteAllText(path + ".new", text);
        File.Move(path + ".new", path, overwrite: true);
    }
}
