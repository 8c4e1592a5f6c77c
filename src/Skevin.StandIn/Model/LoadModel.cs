namespace Skevin.StandIn.Model;

/// <summary>
/// Requests → processor, memory, delay and errors, in steps of time. Delay in a pod is that of a queue with one server,
/// M/M/1: service time / (1 − utilisation). Source: any textbook on queueing.
/// </summary>
public sealed class LoadModel(Faults faults, int seed)
{
    private const double Mib = 1 << 20;
    private readonly Random _random = new(seed);
    private readonly Dictionary<string, KeptNode> _nodes = [];

    /// <summary>Usage of the nodes' own processes.</summary>
    public IReadOnlyDictionary<string, KeptNode> Nodes => new Dictionary<string, KeptNode>(_nodes);

    /// <summary>Takes up kept usage.</summary>
    public void Take(IReadOnlyDictionary<string, KeptNode> nodes)
    {
        foreach (var (node, usage) in nodes)
            _nodes[node] = usage;
    }

    /// <summary>Gives a pod the memory it would have after running for a while.</summary>
    public void Age(SimPod pod, double seconds)
    {
        if (Find(pod) is { } workload)
            pod.LeakedBytes = Math.Min(0.55, _random.NextDouble()) * workload.LeakPerHour * Mib * seconds / 3600;
    }

    /// <summary>Takes one step.</summary>
    /// <param name="pods">All pods of the cluster.</param>
    /// <param name="now">End of the step.</param>
    /// <param name="seconds">Its length.</param>
    public void Tick(IEnumerable<SimPod> pods, DateTimeOffset now, double seconds)
    {
        var entering = LoadCurve.At(now) * (faults.IsOn(Faults.Burst) ? 10 : 1) * (0.97 + 0.06 * _random.NextDouble());
        var byOwner = pods.Where(pod => pod.Running).GroupBy(pod => $"{pod.Namespace}/{pod.OwnerName}").ToDictionary(group => group.Key, group => group.ToArray());
        // Services that call nobody first, so that callers know how long they wait.
        var delays = new Dictionary<string, double> { ["bank"] = Bank(now) };
        foreach (var workload in Scenario.Workloads.OrderBy(workload => Depth(workload, 0)))
            delays[workload.Id] = Serve(workload, byOwner.GetValueOrDefault(workload.Id, []), entering, delays, seconds);
        foreach (var pod in byOwner.Where(pair => Scenario.Workloads.All(workload => workload.Id != pair.Key)).SelectMany(pair => pair.Value))
            Idle(pod, seconds);
        foreach (var node in byOwner.Values.SelectMany(group => group).GroupBy(pod => pod.Node))
        {
            var before = _nodes.GetValueOrDefault(node.Key, new KeptNode(0, 0, 0));
            _nodes[node.Key] = before with { CpuSeconds = before.CpuSeconds + seconds * (0.14 + 0.02 * _random.NextDouble()) };
        }
    }

    /// <summary>A node's counters: its pods' and its own processes'.</summary>
    public (double CpuSeconds, double Memory, double Received, double Sent) NodeUsage(string node, IEnumerable<SimPod> pods)
    {
        var own = _nodes.GetValueOrDefault(node, new KeptNode(0, 0, 0));
        var (cpu, memory, received, sent) = (own.CpuSeconds, 900 * Mib, own.Received, own.Sent);
        foreach (var pod in pods)
        {
            cpu += pod.PodCpuSeconds;
            memory += pod.MemoryBytes;
            received += pod.ReceivedBytes;
            sent += pod.SentBytes;
        }
        return (cpu, memory, received, sent);
    }

    /// <summary>Keeps what a pod used in its node's counters once the pod is gone: a counter never falls.</summary>
    public void Bury(SimPod pod)
    {
        if (pod.Node.Length == 0)
            return;
        var node = _nodes.GetValueOrDefault(pod.Node, new KeptNode(0, 0, 0));
        _nodes[pod.Node] = new KeptNode(node.CpuSeconds + pod.PodCpuSeconds, node.Received + pod.ReceivedBytes, node.Sent + pod.SentBytes);
    }

    private double Serve(ScenarioWorkload workload, SimPod[] running, double entering, Dictionary<string, double> delays, double seconds)
    {
        var rate = workload.Share * (workload.Steady ? LoadCurve.Base : entering);
        var waits = workload.Calls.Sum(call => delays.GetValueOrDefault(call, 0.5) * (call == "bank" ? 0.2 : 1));
        var ready = running.Where(pod => pod.Step == PodStep.Ready).ToArray();
        foreach (var pod in running.Where(pod => pod.Step != PodStep.Ready))
            Idle(pod, seconds);
        var mean = 0.0;
        foreach (var pod in ready)
        {
            var own = rate / ready.Length * (0.94 + 0.12 * _random.NextDouble());
            var room = Math.Max(0.05, workload.Limit.Cores);
            var wanted = own * workload.Cost;
            var use = Math.Min(wanted, room * 0.985);
            var load = use / room;
            // What does not fit is turned away with an error; a long wait for the bank fails now and then.
            var refused = wanted > use ? (wanted - use) / wanted : 0;
            var failing = Math.Min(1, refused + 0.0008 + (waits > 2 ? 0.04 : 0));
            var service = workload.Cost / room;
            var delay = service / (1 - load) + waits;
            mean += delay / ready.Length;
            var requests = own * seconds;
            pod.RequestsFailed += requests * failing;
            pod.RequestsOk += requests * (1 - failing);
            pod.SecondsServing += requests * delay;
            pod.Median = waits + service / (1 - load) * Math.Log(2);
            pod.Slowest = waits * 1.6 + service / (1 - load) * Math.Log(20);
            pod.InFlight = own * delay;
            var cpu = 0.008 + use;
            pod.CpuSeconds += cpu * seconds;
            pod.PodCpuSeconds += cpu * seconds;
            pod.LeakedBytes += workload.LeakPerHour * Mib * seconds / 3600 * (faults.IsOn(Faults.Leak) ? 60 : 1);
            pod.MemoryBytes = workload.BaseMemory * Mib * (0.99 + 0.02 * _random.NextDouble()) + pod.LeakedBytes + Math.Min(60, pod.InFlight) * 0.25 * Mib;
            pod.ReceivedBytes += requests * 900;
            pod.SentBytes += requests * 2300;
        }
        return ready.Length == 0 ? 2 : mean;
    }

    private void Idle(SimPod pod, double seconds)
    {
        var cpu = pod.OwnerName.StartsWith("skevin", StringComparison.Ordinal) ? 0.011 + 0.004 * _random.NextDouble() : 0.006;
        pod.CpuSeconds += cpu * seconds;
        pod.PodCpuSeconds += cpu * seconds;
        var start = Find(pod)?.BaseMemory ?? 58;
        pod.MemoryBytes = start * Mib * (0.98 + 0.04 * _random.NextDouble()) + pod.LeakedBytes;
        pod.ReceivedBytes += 400 * seconds;
        pod.SentBytes += 900 * seconds;
    }

    private double Bank(DateTimeOffset now)
    {
        if (faults.IsOn(Faults.SlowBank))
            return 4.2 + 0.8 * _random.NextDouble();
        // Now and then it is slow by itself for a few minutes.
        return now.Minute is >= 37 and < 41 && now.Hour % 3 == 1 ? 1.6 : 0.18 + 0.06 * _random.NextDouble();
    }

    private static int Depth(ScenarioWorkload workload, int level) => level > 8 ? level : workload.Calls
        .Select(call => Scenario.Workloads.FirstOrDefault(other => other.Id == call))
        .OfType<ScenarioWorkload>()
        .Select(other => 1 + Depth(other, level + 1))
        .DefaultIfEmpty(0)
        .Max();

    private static ScenarioWorkload? Find(SimPod pod) =>
        Scenario.Workloads.FirstOrDefault(workload => workload.Namespace == pod.Namespace && workload.Name == pod.OwnerName);
}
