using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Nodes;
using Skevin.Core.Collection;
using Skevin.StandIn.Api;
using Skevin.StandIn.Telemetry;

namespace Skevin.StandIn.Model;

/// <summary>
/// A simulated cluster: nodes, controllers that make pods of what was applied, and pods that pass through pending and
/// creating. <see cref="Advance"/> moves it to a moment; nothing else has a clock.
/// </summary>
public sealed class SimCluster
{
    private readonly Lock _lock = new();
    private readonly Dictionary<string, SimPod> _pods = [];
    private readonly LoadModel _load;
    private readonly RequestModel _requests;
    private Random _random;
    private readonly int _seed;
    private readonly int _number;
    private readonly PodPlacement _placement;
    private readonly ReplicaAutoscaler _autoscaler;
    private DateTimeOffset _now;

    // A longer stretch is a time in which the stand-in was off: nothing is told of it.
    private static readonly TimeSpan LongestTold = TimeSpan.FromMinutes(10);
    private static readonly TimeSpan FineStep = TimeSpan.FromSeconds(5);
    private readonly TimeSpan _step;
    private readonly Faults _faults;
    private string? _lost;
    private readonly Blueprint _blueprint;
    private readonly NodeObjects _nodes;
    private readonly EventRecorder _events;
    private readonly PodLifecycle _life;
    private readonly List<SimNode> _joined = [];
    private static readonly TimeSpan LogsKept = TimeSpan.FromMinutes(3);
    private readonly List<(SimPod Pod, DateTimeOffset At)> _removed = [];
    private readonly Dictionary<ObjectKey, (long Version, string Template, string Hash)> _templates = [];

    /// <summary>Makes the cluster with its nodes and workloads, long settled.</summary>
    /// <param name="logs">Where its containers' logs are written; null for nowhere.</param>
    /// <param name="weight">One request in so many is simulated and stands for all of them.</param>
    /// <param name="step">Greatest step of the model; 5 s where it is null.</param>
    public SimCluster(string name, int number, int nodes, Faults faults, int seed, DateTimeOffset now, PodLogs? logs = null, int weight = 1, TimeSpan? step = null)
        : this(name, number, Blueprint.OfDemo(name, nodes), faults, seed, now, logs, weight, step)
    {
    }

    /// <summary>Makes a cluster by its blueprint; one that is not the demo's begins without nodes.</summary>
    public SimCluster(string name, int number, Blueprint blueprint, Faults faults, int seed, DateTimeOffset now, PodLogs? logs = null, int weight = 1, TimeSpan? step = null)
    {
        (_blueprint, _nodes, _events) = (blueprint, new NodeObjects(Store, blueprint, number), new EventRecorder(Store));
        (_step, _faults) = (step ?? FineStep, faults);
        (_placement, _autoscaler) = (new PodPlacement(Store, blueprint, faults, number), new ReplicaAutoscaler(Store));
        Telemetry = new ClusterTelemetry(logs);
        _life = new PodLifecycle(Store, _events, faults, Telemetry, Place, HasNetwork);
        Booted = now - TimeSpan.FromDays(23);
        Name = name;
        _number = number;
        (_seed, _random) = (seed, new Random(seed));
        _load = new LoadModel(faults, seed + 1);
        _requests = new RequestModel(_load, faults, seed + 2, weight);
        if (weight > 1)
            _requests.GoOn(now);
        _now = now;
        if (blueprint.Demo)
            SetUp(now);
    }

    /// <summary>What is switched in it.</summary>
    public Faults Faults => _faults;

    /// <summary>Its name.</summary>
    public string Name { get; }

    /// <summary>Version of its API.</summary>
    public string Version => _blueprint.Version;

    /// <summary>Names of its nodes.</summary>
    public IReadOnlyList<string> Nodes { get; private set; } = [];

    /// <summary>Cores and memory of a node, GiB.</summary>
    public (double Cores, double Gib) SizeOf(string node) => _joined.Where(one => one.Name == node).Select(one => (one.Cores, one.Gib)).FirstOrDefault(Scenario.NodeSize);

    /// <summary>Takes machines in as nodes.</summary>
    public void Join(params IEnumerable<SimNode> nodes)
    {
        lock (_lock)
        {
            _joined.AddRange(nodes.Where(node => !_joined.Contains(node)));
            Nodes = [.. _joined.Select(node => node.Name)];
            JudgeNodes();
        }
    }

    /// <summary>What its pods and nodes say of their requests.</summary>
    public ClusterTelemetry Telemetry { get; }

    /// <summary>When its nodes were started.</summary>
    public DateTimeOffset Booted { get; private set; }

    /// <summary>Its objects.</summary>
    public ObjectStore Store { get; } = new();

    /// <summary>Pods that run now.</summary>
    public IReadOnlyList<SimPod> Pods
    {
        get
        {
            lock (_lock)
                return [.. _pods.Values];
        }
    }

    /// <summary>The pod with an address, or null.</summary>
    public SimPod? ByAddress(string address)
    {
        lock (_lock)
            return _pods.Values.FirstOrDefault(pod => pod.Running && pod.Addresses.Contains(address));
    }

    /// <summary>Moves everything to a moment, in steps of a few seconds; what the stand-in was off for goes by in minutes.</summary>
    public void Advance(DateTimeOffset to)
    {
        lock (_lock)
        {
            while (_now < to)
            {
                var off = to - _now > LongestTold;
                var step = off ? TimeSpan.FromMinutes(1) : to - _now > _step ? _step : to - _now;
                _now += step;
                JudgeNodes();
                Control();
                _load.Tick(_pods.Values, _now, step.TotalSeconds);
                if (!off && _blueprint.Demo)
                    _requests.Tick(_pods.Values.OrderBy(pod => pod.Name, StringComparer.Ordinal), _now, step.TotalSeconds, Telemetry, RouteRule.Of(Store));
                _autoscaler.Run(_pods.Values, _now, (ns, workload, from, to) => _events.Write(_now, new JsonObject { ["kind"] = "Deployment", ["namespace"] = ns, ["name"] = workload, ["apiVersion"] = "apps/v1" }, "", "Normal", "ScalingReplicaSet", $"Scaled {(to > from ? "up" : "down")} {workload} from {from} to {to}"));
                foreach (var pod in _pods.Values)
                    _life.Live(pod, _now);
                if ((_faults.IsOn(Faults.LogFlood) || _faults.IsOn(Faults.RotationLoss)) && !off)
                    Flood(step.TotalSeconds);
                foreach (var gone in _removed.Where(removed => _now - removed.At > LogsKept).ToArray())
                {
                    Telemetry.Logs?.Remove(gone.Pod);
                    _removed.Remove(gone);
                }
            }
            var scarce = _faults.IsOn(Faults.RotationLoss) ? _pods.Values.Where(pod => pod.OwnerName == "door-watch").Select(pod => pod.Uid).ToHashSet() : null;
            Telemetry.Logs?.Flush(_now, scarce is null ? null : scarce.Contains);
        }
    }

    /// <summary>Requests the pods of each workload have answered in their present runs, and up to when: the truth to compare with.</summary>
    public (DateTimeOffset At, IReadOnlyDictionary<string, double> Requests) Answered()
    {
        lock (_lock)
            return (_now, _pods.Values.GroupBy(pod => pod.OwnerName).ToDictionary(group => group.Key, group => group.Sum(pod => pod.RequestsOk + pod.RequestsFailed)));
    }

    /// <summary>Usage counters of a node, for its stats summary.</summary>
    public (double CpuSeconds, double Memory, double Received, double Sent) NodeUsage(string node)
    {
        lock (_lock)
            return _load.NodeUsage(node, _pods.Values.Where(pod => pod.Node == node));
    }

    /// <summary>What is kept across a restart of the stand-in.</summary>
    public SimClusterState Save()
    {
        lock (_lock)
            return new SimClusterState(
                _now, [.. _pods.Values], _placement.LastAddress, _load.Nodes, Booted,
                [.. Store.All().Where(item => item.Key.Plural is not ("pods" or "nodes" or "events"))
                    .Select(item => new KeptObject(item.Key.Group, item.Key.Plural, item.Key.Namespace, item.Key.Name, item.Json))]);
    }

    /// <summary>Takes up what was kept.</summary>
    public void Load(SimClusterState state)
    {
        lock (_lock)
        {
            foreach (var pod in _pods.Values)
                Store.Remove(PodLifecycle.Key(pod));
            _pods.Clear();
            foreach (var kept in state.Objects)
                Store.Put(new ObjectKey(kept.Group, kept.Plural, kept.Namespace, kept.Name), (JsonObject)JsonNode.Parse(kept.Json)!);
            foreach (var pod in state.Pods)
            {
                _pods[pod.Uid] = pod;
                _life.Show(pod);
            }
            _load.Take(state.Nodes);
            _requests.GoOn(state.Now);
            // Drawn anew, or pods would get the names and ids of those before.
            _random = new Random(unchecked(_seed * 31 + (int)state.Now.ToUnixTimeSeconds()));
            (_now, _placement.LastAddress, Booted) = (state.Now, state.LastAddress, state.Booted ?? Booted);
        }
    }

    private void SetUp(DateTimeOffset now)
    {
        var born = now - TimeSpan.FromDays(23);
        _now = born;
        Join(_blueprint.Nodes);
        foreach (var ns in Scenario.Workloads.Select(workload => workload.Namespace).Distinct())
            Store.Put(new ObjectKey("", "namespaces", "", ns), new JsonObject
            {
                ["apiVersion"] = "v1", ["kind"] = "Namespace", ["metadata"] = new JsonObject { ["creationTimestamp"] = Time(born) },
                ["status"] = new JsonObject { ["phase"] = "Active" },
            });
        foreach (var workload in Scenario.Workloads)
        {
            var plural = workload.Kind == "Deployment" ? "deployments" : "statefulsets";
            Store.Put(new ObjectKey("apps", plural, workload.Namespace, workload.Name), ScenarioObjects.Workload(workload, Time(born)));
        }
        foreach (var (key, body) in ScenarioObjects.All(_number))
        {
            body["metadata"]!["creationTimestamp"] = Time(born);
            Store.Put(key, body);
        }
        // Long settled: every pod was made long ago, is placed and has run for a while.
        Control();
        _now = now;
        var age = new Random(_number);
        foreach (var pod in _pods.Values)
        {
            Place(pod);
            pod.Step = PodStep.Ready;
            var started = now - TimeSpan.FromMinutes(30 + age.Next(400));
            pod.Start(started);
            pod.StepSince = started;
            pod.ReadySince = started;
            _load.Age(pod, (now - started).TotalSeconds);
            _life.SayStarted(pod, started);
            _life.Show(pod);
        }
        Control();
    }

    private void Control()
    {
        _placement.AddressServices();
        // A pod somebody deleted goes, and its controller makes another; pods of a workload that was removed go with it.
        foreach (var deleted in _pods.Values.Where(pod => Store.Get(PodLifecycle.Key(pod)) is null).ToArray())
            Remove(deleted);
        foreach (var plural in new[] { "deployments", "statefulsets", "daemonsets" })
            foreach (var item in Store.List("apps", plural, "").Objects)
                Reconcile(item, plural);
        foreach (var orphan in _pods.Values.Where(pod => Store.Get(OwnerKey(pod)) is null).ToArray())
            Remove(orphan);
    }

    private void Reconcile(StoredObject item, string plural)
    {
        var (ns, name) = (item.Key.Namespace, item.Key.Name);
        var kind = plural switch { "deployments" => "Deployment", "statefulsets" => "StatefulSet", _ => "DaemonSet" };
        var (template, hash) = TemplateOf(item);
        var own = _pods.Values.Where(pod => pod.OwnerKind == kind && pod.Namespace == ns && pod.OwnerName == name).ToArray();
        var fresh = own.Where(pod => pod.TemplateHash == hash[..9]).ToArray();
        var old = own.Except(fresh).ToArray();
        // One at a time: an old pod goes only when all new ones are ready, and none while the controller is held.
        var held = item.Body["spec"]!["paused"]?.GetValue<bool>() == true || item.Body["spec"]!["updateStrategy"]?["type"]?.GetValue<string>() == "OnDelete";
        if (!held && old.Length > 0 && fresh.All(pod => pod.Step == PodStep.Ready))
        {
            Remove(old[0]);
            own = [.. own.Except(old.Take(1))];
        }
        if (kind == "DaemonSet")
        {
            foreach (var node in Nodes.Where(node => own.All(pod => pod.Node != node)))
                Add(kind, ns, name, hash, template, $"{name}-{Suffix()}", node);
        }
        else
        {
            var wanted = item.Body["spec"]!["replicas"]?.GetValue<int>() ?? 1;
            for (var i = own.Length; i < wanted; i++)
                Add(kind, ns, name, hash, template,
                    kind == "StatefulSet" ? $"{name}-{Enumerable.Range(0, wanted).First(n => _pods.Values.All(pod => pod.Name != $"{name}-{n}" || pod.Namespace != ns))}" : $"{name}-{hash[..9]}-{Suffix()}", "");
            foreach (var extra in own.OrderByDescending(pod => pod.Created).Take(Math.Max(0, own.Length - wanted)))
                Remove(extra);
        }
        ShowStatus(item, kind, hash);
    }

    private (string Template, string Hash) TemplateOf(StoredObject item)
    {
        if (_templates.TryGetValue(item.Key, out var known) && known.Version == item.Version)
            return (known.Template, known.Hash);
        var template = item.Body["spec"]!["template"]!.ToJsonString();
        var hash = Convert.ToHexString(SHA256.HashData(Encoding.UTF8.GetBytes(template)))[..10].ToLowerInvariant();
        _templates[item.Key] = (item.Version, template, hash);
        return (template, hash);
    }

    private void ShowStatus(StoredObject item, string kind, string hash)
    {
        var pods = _pods.Values.Where(pod => pod.OwnerKind == kind && pod.Namespace == item.Key.Namespace && pod.OwnerName == item.Key.Name).ToArray();
        var (ready, updated) = (pods.Count(pod => pod.IsReady), pods.Count(pod => pod.TemplateHash == hash[..9]));
        var status = kind == "DaemonSet"
            ? new JsonObject
            {
                ["desiredNumberScheduled"] = Nodes.Count, ["currentNumberScheduled"] = pods.Length, ["numberReady"] = ready,
                ["numberAvailable"] = ready, ["updatedNumberScheduled"] = updated, ["numberMisscheduled"] = 0,
            }
            : new JsonObject
            {
                ["replicas"] = pods.Length, ["readyReplicas"] = ready, ["availableReplicas"] = ready, ["updatedReplicas"] = updated,
            };
        status["observedGeneration"] = item.Body["metadata"]?["generation"]?.DeepClone() ?? 1;
        if (JsonNode.DeepEquals(item.Body["status"], status))
            return;
        var body = (JsonObject)item.Body.DeepClone();
        body["status"] = status;
        Store.Put(item.Key, body);
    }

    private void Add(string kind, string ns, string owner, string hash, string template, string name, string node)
    {
        var pod = new SimPod
        {
            Namespace = ns,
            Name = name,
            Uid = new Guid(RandomBytes(16)).ToString(),
            OwnerKind = kind,
            OwnerName = owner,
            TemplateHash = hash[..9],
            TemplateJson = Injected(ns, template),
            Created = _now,
            StepSince = _now,
        };
        if (kind == "DaemonSet")
            pod.Node = node;
        _pods[pod.Uid] = pod;
        _life.Show(pod);
    }

    // A webhook puts the sidecar beside whatever is made in a namespace that is labelled so; what runs already stays as it is.
    private string Injected(string ns, string template)
    {
        if (Store.Get(new ObjectKey("", "namespaces", "", ns))?.Body["metadata"]?["labels"]?[RouteRule.SidecarLabel]?.ToString() != "on")
            return template;
        var body = (JsonObject)JsonNode.Parse(template)!;
        body["spec"]!["containers"]!.AsArray().Add(new JsonObject
        {
            ["name"] = SimPod.SidecarName, ["image"] = "larkfield/sidecar:1.4",
            ["resources"] = new JsonObject { ["requests"] = new JsonObject { ["cpu"] = "50m", ["memory"] = "64Mi" }, ["limits"] = new JsonObject { ["cpu"] = "200m", ["memory"] = "128Mi" } },
        });
        return body.ToJsonString();
    }

    private void Remove(SimPod pod)
    {
        _load.Bury(pod);
        _pods.Remove(pod.Uid);
        _removed.Add((pod, _now));
        Store.Remove(PodLifecycle.Key(pod));
        _events.Write(_now, pod, "Normal", "Killing", $"Stopping container {PodLifecycle.ContainerOf(pod)}");
    }

    // The cluster only knows that the node's agent has stopped talking; what runs there is taken for not ready.
    private void JudgeNodes()
    {
        var lost = _faults.IsOn(Faults.NodeLost) ? Nodes[Math.Min(3, Nodes.Count - 1)] : null;
        if (lost != _lost)
            foreach (var pod in _pods.Values.Where(pod => pod.Node == lost || pod.Node == _lost))
            {
                pod.Lost = pod.Node == lost;
                _life.Show(pod);
            }
        _lost = lost;
        foreach (var node in _joined)
            _nodes.Show(node, ConditionOf(node.Name), _now, _now);
    }

    private NodeCondition ConditionOf(string node) => new(
        node == _lost, HasNetwork(node), HasV6(node), FreeBytes(node) == 0);

    /// <summary>Whether a node has IPv6.</summary>
    public bool HasV6(string node) => _blueprint.V6 && !(_faults.IsOn(Faults.V6Missing) && Nodes.Count > 2 && node == Nodes[2]);

    /// <summary>Bytes free on a node's disk where the model says so; null for the machine's own.</summary>
    public long? FreeBytes(string node) => _faults.IsOn(Faults.DiskFull) && Nodes.Count > 1 && node == Nodes[1] ? 0 : null;

    private bool HasNetwork(string node) => !_faults.IsOn(Faults.NoNetwork) && (_blueprint.Demo || _pods.Values.Any(pod => pod.Node == node && pod.IsReady && BaseServices.IsNetwork(pod)));

    private void Flood(double seconds)
    {
        foreach (var pod in _pods.Values.Where(pod => pod.OwnerName == "door-watch" && pod.Step == PodStep.Ready))
            for (var i = 0; i < seconds * 60; i++)
                Telemetry.Logs?.Write(pod, (_now.ToUnixTimeMilliseconds() - (long)(i / 60.0 * 1000)) * 1_000_000, false, $"DEBUG door {_random.Next(1, 30)} closed, seal {_random.Next(200, 240) / 10.0:0.0} N");
    }

    private bool Place(SimPod pod)
    {
        var placed = _placement.Place(pod, _pods.Values, [.. _joined.Select(node => (node, ConditionOf(node.Name).Ready))], HasV6);
        if (!placed)
            _life.Show(pod);
        return placed;
    }

    private static ObjectKey OwnerKey(SimPod pod) => new("apps", pod.OwnerKind.ToLowerInvariant() + "s", pod.Namespace, pod.OwnerName);

    private string Suffix()
    {
        const string Letters = "bcdfghjkmnpqrstvwxz2456789";
        return new string([.. Enumerable.Range(0, 5).Select(_ => Letters[_random.Next(Letters.Length)])]);
    }

    private byte[] RandomBytes(int count)
    {
        var bytes = new byte[count];
        _random.NextBytes(bytes);
        return bytes;
    }

    private static string Time(DateTimeOffset time) => time.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture);
}

/// <summary>An object as kept on disk.</summary>
public sealed record KeptObject(string Group, string Plural, string Namespace, string Name, string Json);

/// <summary>Usage of a node beyond its pods'.</summary>
public sealed record KeptNode(double CpuSeconds, double Received, double Sent);

/// <summary>A cluster as kept on disk.</summary>
public sealed record SimClusterState(
    DateTimeOffset Now, IReadOnlyList<SimPod> Pods, int LastAddress, IReadOnlyDictionary<string, KeptNode> Nodes, DateTimeOffset? Booted, IReadOnlyList<KeptObject> Objects);
