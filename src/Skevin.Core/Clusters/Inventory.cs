namespace Skevin.Core.Clusters;

/// <summary>What a cluster holds at one moment, as read from its API.</summary>
/// <param name="Version">The cluster's own version text.</param>
public sealed record Inventory(
    string Version, IReadOnlyList<NodeState> Nodes, IReadOnlyList<NamespaceState> Namespaces,
    IReadOnlyList<WorkloadState> Workloads, IReadOnlyList<PodState> Pods)
{
    /// <summary>Services; empty where they may not be read.</summary>
    public IReadOnlyList<ServiceState> Services { get; init; } = [];

    /// <summary>Entry points.</summary>
    public IReadOnlyList<EntryPointState> EntryPoints { get; init; } = [];

    /// <summary>Certificates of entry points, where they may be read.</summary>
    public IReadOnlyList<CertificateState> Certificates { get; init; } = [];

    /// <summary>Configuration objects.</summary>
    public IReadOnlyList<ConfigurationState> Configurations { get; init; } = [];

    /// <summary>Storage classes.</summary>
    public IReadOnlyList<StorageClassState> StorageClasses { get; init; } = [];

    /// <summary>Claims for storage.</summary>
    public IReadOnlyList<ClaimState> Claims { get; init; } = [];

    /// <summary>Nothing read yet.</summary>
    public static Inventory Empty { get; } = new("", [], [], [], []);
}

/// <summary>Amounts of the two resources that are scheduled.</summary>
/// <param name="Cores">Processor, in cores.</param>
/// <param name="Memory">Bytes.</param>
public readonly record struct Resources(double Cores, double Memory)
{
    /// <summary>Adds both.</summary>
    public static Resources operator +(Resources a, Resources b) => new(a.Cores + b.Cores, a.Memory + b.Memory);
}

/// <summary>A node.</summary>
/// <param name="NotReadyBecause">The reason and message of its Ready condition, null when ready.</param>
public sealed record NodeState(
    string Name, bool Ready, string? NotReadyBecause, IReadOnlyList<string> Addresses, IReadOnlyList<string> Roles,
    Resources Capacity, Resources Allocatable, string AgentVersion, DateTimeOffset Created)
{
    /// <summary>Whether it waits for a network. Source: the node agent's words, see the container network interface.</summary>
    public bool LacksNetwork => NotReadyBecause?.Contains("NetworkReady=false", StringComparison.Ordinal) == true;

    /// <summary>Whether its disk is nearly full, in the cluster's eyes.</summary>
    public bool DiskPressure { get; init; }
}

/// <summary>A namespace.</summary>
public sealed record NamespaceState(string Name, DateTimeOffset Created);

/// <summary>A controller that keeps pods running.</summary>
/// <param name="Kind">Deployment, StatefulSet or DaemonSet.</param>
/// <param name="Held">Whether the cluster leaves its pods as they are though its template changes: paused, or replaced on deletion only.</param>
public sealed record WorkloadState(
    string Namespace, string Kind, string Name, int Desired, int Ready, int Available, int Updated, DateTimeOffset Created,
    string? Revision, bool Held = false);

/// <summary>A pod.</summary>
/// <param name="WorkloadKind">Kind of what controls it; empty for a bare pod.</param>
/// <param name="Workload">Its name; the pod's own for a bare pod.</param>
/// <param name="Revision">Revision of the collection plan, on Skevin's own agents.</param>
/// <param name="Configurations">Configuration objects its volumes hold.</param>
/// <param name="Labels">Its labels.</param>
public sealed record PodState(
    string Namespace, string Name, string Uid, string Node, string Phase, string? Reason, string? Message,
    IReadOnlyList<string> Addresses, string WorkloadKind, string Workload, IReadOnlyList<ContainerState> Containers,
    IReadOnlyList<PodCondition> Conditions, DateTimeOffset Created, string? Revision, IReadOnlyList<string>? Configurations = null,
    IReadOnlyDictionary<string, string>? Labels = null)
{
    /// <summary>What it leaves open; null where nothing is.</summary>
    public PodOpenness? Open { get; init; }

    /// <summary>All containers ready.</summary>
    public bool Ready => Containers.Count > 0 && Containers.All(container => container.Ready);

    /// <summary>Restarts of all containers.</summary>
    public int Restarts => Containers.Sum(container => container.Restarts);
}

/// <summary>A condition of a pod.</summary>
public sealed record PodCondition(string Type, bool Fulfilled, string? Reason, string? Message, DateTimeOffset? Since);

/// <summary>A container of a pod.</summary>
/// <param name="State">waiting, running or terminated.</param>
/// <param name="Last">How it ended the last time, if it did.</param>
/// <param name="SendsSpans">Whether its environment tells an OpenTelemetry SDK where to send spans.</param>
public sealed record ContainerState(
    string Name, string Image, bool Ready, int Restarts, string State, string? Reason, string? Message,
    Resources Request, Resources Limit, IReadOnlyList<ContainerPort> Ports, Termination? Last, bool SendsSpans = false);

/// <summary>A port a container names.</summary>
public sealed record ContainerPort(string Name, int Number);

/// <summary>The end of a container.</summary>
public sealed record Termination(string Reason, int ExitCode, DateTimeOffset At);
