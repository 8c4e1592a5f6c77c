namespace Skevin.StandIn.Model;

/// <summary>
/// What load does to the pods: utilisation, delay, memory. Delay in a pod is that of a queue with one server, M/M/1: the time in the
/// system is exponential with mean service time / (1 − utilisation). Source: any textbook on queueing. The requests themselves are
/// single: see <see cref="RequestModel"/>.
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
        if (Scenario.Of(pod) is { } workload)
            pod.LeakedBytes = Math.Min(0.55, _random.NextDouble()) * workload.LeakPerHour * Mib * seconds / 3600;
    }

    /// <summary>Requests a second that enter at the gate.</summary>
    public double Entering(DateTimeOffset now) => LoadCurve.At(now) * (faults.IsOn(Faults.Burst) ? 10 : 1);

    /// <summary>Mean time the bank takes to answer, in seconds.</summary>
    public double BankSeconds(DateTimeOffset now) =>
        faults.IsOn(Faults.SlowBank) ? 4.5
        // Now and then it is slow by itself for a few minutes.
        : now.Minute is >= 37 and < 41 && now.Hour % 3 == 1 ? 1.4 : 0.2;

    /// <summary>Takes one step: works out what the expected rate of requests does to each pod.</summary>
    /// <param name="pods">All pods of the cluster.</param>
    /// <param name="now">End of the step.</param>
    /// <param name="seconds">Its length.</param>
    public void Tick(IEnumerable<SimPod> pods, DateTimeOffset now, double seconds)
    {
        var running = pods.Where(pod => pod.Running).ToArray();
        var ready = running.Where(pod => pod.Step == PodStep.Ready).GroupBy(pod => $"{pod.Namespace}/{pod.OwnerName}").ToDictionary(group => group.Key, group => group.ToArray());
        var rates = Rates(now);
        foreach (var pod in running)
        {
            pod.Now = now;
            var workload = Scenario.Of(pod);
            var members = workload is null ? [] : ready.GetValueOrDefault(workload.Id, []);
            Live(pod, workload, pod.Step == PodStep.Ready && members.Length > 0 ? rates.GetValueOrDefault(workload!.Id) / members.Length : 0, seconds);
        }
        foreach (var node in running.GroupBy(pod => pod.Node))
        {
            var before = _nodes.GetValueOrDefault(node.Key, new KeptNode(0, 0, 0));
            _nodes[node.Key] = before with { CpuSeconds = before.CpuSeconds + seconds * (0.14 + 0.02 * _random.NextDouble()) };
        }
    }

    /// <summary>Requests a second each workload gets: what begins there and what its callers send.</summary>
    public Dictionary<string, double> Rates(DateTimeOffset now)
    {
        var rates = new Dictionary<string, double>();
        // Callers first, so that each rate is whole before it is passed on.
        foreach (var workload in Scenario.Workloads.OrderByDescending(workload => Depth(workload.Id, 0)))
        {
            var rate = rates[workload.Id] = rates.GetValueOrDefault(workload.Id) + workload.Enters * (workload.Steady ? LoadCurve.Base : Entering(now));
            foreach (var call in workload.Calls)
                rates[call.To] = rates.GetValueOrDefault(call.To) + rate * call.Share;
        }
        return rates;
    }

    /// <summary>A node's counters: its pods' and its own processes'.</summary>
    public (double CpuSeconds, double Memory, double Received, double Sent) NodeUsage(string node, IEnumerable<SimPod> pods)
    {
        var own = _nodes.GetValueOrDefault(node, new KeptNode(0, 0, 0));
        var (cpu, memory, received, sent) = (own.CpuSeconds, 900 * Mib, own.Received, own.Sent);
        foreach (var pod in pods)
        {
            cpu += pod.PodCpuSeconds;
            memory += pod.MemoryBytes + pod.SidecarBytes;
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

    private void Live(SimPod pod, ScenarioWorkload? workload, double rate, double seconds)
    {
        var (cores, leak, memory) = (0.006, 0.0, 58.0);
        if (pod.OwnerName.StartsWith("skevin", StringComparison.Ordinal))
            cores = 0.011 + 0.004 * _random.NextDouble();
        if (workload is not null)
        {
            var room = Math.Max(0.05, workload.Limit.Cores);
            var wanted = rate * workload.Cost;
            var use = Math.Min(wanted, room * 0.985);
            pod.ServiceSeconds = workload.Cost / room / (1 - use / room);
            // What does not fit is turned away with an error.
            pod.Refuses = wanted > use ? (wanted - use) / wanted : 0;
            pod.InFlight = rate * pod.ServiceSeconds;
            cores = 0.008 + use;
            leak = rate > 0 ? workload.LeakPerHour * Mib * seconds / 3600 * (faults.IsOn(Faults.Leak) ? 60 : 1) : 0;
            memory = workload.BaseMemory;
        }
        // Each request passes the sidecar twice: in, and what it calls out.
        var beside = pod.Sidecar is null ? 0 : 0.004 + rate * 0.0004;
        pod.Cores = cores;
        pod.CpuSeconds += cores * seconds;
        pod.SidecarCpuSeconds += beside * seconds;
        pod.PodCpuSeconds += (cores + beside) * seconds;
        pod.LeakedBytes += leak;
        pod.MemoryBytes = memory * Mib * (0.99 + 0.02 * _random.NextDouble()) + pod.LeakedBytes + Math.Min(60, pod.InFlight) * 0.25 * Mib;
        // Probes and heartbeats; requests add theirs.
        pod.ReceivedBytes += 400 * seconds;
        pod.SentBytes += 900 * seconds;
    }

    private static int Depth(string id, int level) => level > 8 || !Scenario.ById.TryGetValue(id, out var workload) ? 0
        : workload.Calls.Select(call => 1 + Depth(call.To, level + 1)).DefaultIfEmpty(0).Max();
}
