using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;

namespace Skevin.Core.Collection;

/// <summary>What an expected amount rests on.</summary>
public enum SizeBasis
{
    /// <summary>Counted from the inventory: what the agents write of each thing is known.</summary>
    Counted,

    /// <summary>Measured in this cluster, and carried over to the plan's interval, share and number of sources.</summary>
    Measured,

    /// <summary>What is usual; it depends on the applications.</summary>
    Usual,

    /// <summary>Not known before it is measured.</summary>
    Unknown,
}

/// <summary>What one kind of source is expected to bring.</summary>
/// <param name="Sources">How many sources.</param>
/// <param name="Series">Series; 0 where they are none.</param>
/// <param name="PerSecond">Samples, lines, spans or flow records a second; null where it is not known.</param>
public sealed record ExpectedAmount(string Signal, string What, int Sources, double Series, double? PerSecond, SizeBasis Basis);

/// <summary>What a plan is expected to cost.</summary>
/// <param name="Amounts">Each kind of source.</param>
/// <param name="PerSecond">By signal; without those that are not known.</param>
/// <param name="BytesPerDay">Stored a day, by signal.</param>
/// <param name="Series">Series in all.</param>
/// <param name="PricePerMonth">By the person's own prices, 30 days; null where none are set.</param>
/// <param name="Currency">Of the price.</param>
public sealed record PlanSize(
    IReadOnlyList<ExpectedAmount> Amounts, IReadOnlyDictionary<string, double> PerSecond, IReadOnlyDictionary<string, double> BytesPerDay, double Series, double? PricePerMonth, string? Currency);

/// <summary>A person's own prices.</summary>
/// <param name="Currency">For example EUR.</param>
/// <param name="PerMillion">Of a million samples, lines, spans or flow records, by signal.</param>
/// <param name="PerGibMonth">Of a GiB kept for a month.</param>
public sealed record Prices(string Currency, IReadOnlyDictionary<string, double> PerMillion, double PerGibMonth)
{
    /// <summary>What is wrong with them, or null.</summary>
    public string? Problem => string.IsNullOrWhiteSpace(Currency) || Currency.Length > 8 ? "A currency has up to 8 letters, for example EUR."
        : PerMillion is null || PerMillion.Values.Append(PerGibMonth).Any(price => !double.IsFinite(price) || price < 0) ? "A price is a number from 0 up." : null;
}

/// <summary>What was measured, to carry over.</summary>
/// <param name="PerSecond">Items a second by kind of source, over the last minutes.</param>
/// <param name="Sources">Sources of that kind that sent.</param>
/// <param name="BytesPerItem">Bytes an item takes in the store, by signal, where enough is stored to tell.</param>
public sealed record MeasuredKinds(IReadOnlyDictionary<SourceKind, double> PerSecond, IReadOnlyDictionary<SourceKind, int> Sources, IReadOnlyDictionary<string, double> BytesPerItem)
{
    /// <summary>Nothing measured yet.</summary>
    public static MeasuredKinds None { get; } = new(new Dictionary<SourceKind, double>(), new Dictionary<SourceKind, int>(), new Dictionary<string, double>());
}

/// <summary>Says before a roll-out what a plan will bring and cost.</summary>
public static class Sizing
{
    // What the agents write: see NodeUsage and ClusterState of the agent; the tests hold these numbers to it.
    private const int SeriesOfNode = 8, SeriesOfPod = 5, SeriesOfContainer = 3;
    private const int SeriesOfAgent = 3, SeriesOfAgentSignal = 4;
    private const int StateOfNode = 3, StateOfPod = 1, StateOfContainer = 2, StateOfWorkload = 2;

    // Usual amounts where nothing was measured; common practice, no source.
    private const int UsualEndpoint = 40, UsualKernel = 90;
    private const double UsualLines = 1;
    private static readonly Dictionary<string, double> UsualBytes = new() { ["metrics"] = 3.5, ["logs"] = 30, ["traces"] = 25, ["flows"] = 12 };

    private const int UsualOfPod = 4;
    private const int UsualOfEntry = 4;
    private const double Gib = 1L << 30;
    private const int Month = 30;

    /// <summary>Sizes a plan.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="inForce">The plan under which was measured; null where nothing is collected.</param>
    /// <param name="inventory">The cluster now.</param>
    /// <param name="measured">What was measured.</param>
    /// <param name="prices">The person's prices; null where none are set.</param>
    /// <param name="retention">How long each signal is kept.</param>
    /// <param name="now">The time, for a close look that is on.</param>
    public static PlanSize Of(CollectionPlan plan, CollectionPlan? inForce, Inventory inventory, MeasuredKinds measured, Prices? prices, Func<string, TimeSpan> retention, DateTimeOffset now)
    {
        var amounts = ExpectedSources.Of(plan, inventory).GroupBy(source => source.Kind).Select(group => Amount(group.Key, group.First().Signal, group.Count(), plan, inForce, inventory, measured, now))
            .Concat(plan.Metrics?.Any == true ? [Amount(SourceKind.Agent, "metrics", inventory.Nodes.Count + Manifests.Collectors(plan).Count(), plan, inForce, inventory, measured, now)] : []).ToArray();
        var perSecond = amounts.Where(amount => amount.PerSecond is not null).GroupBy(amount => amount.Signal).ToDictionary(group => group.Key, group => group.Sum(amount => amount.PerSecond!.Value));
        var bytes = perSecond.ToDictionary(pair => pair.Key, pair => pair.Value * 86_400 * measured.BytesPerItem.GetValueOrDefault(pair.Key, UsualBytes[pair.Key]));
        double? price = prices is null ? null
            : perSecond.Sum(pair => pair.Value * 86_400 * Month / 1e6 * prices.PerMillion.GetValueOrDefault(pair.Key)) + bytes.Sum(pair => pair.Value * retention(pair.Key).TotalDays) / Gib * prices.PerGibMonth;
        return new PlanSize(amounts, perSecond, bytes, amounts.Sum(amount => amount.Series), price, prices?.Currency);
    }

    private static ExpectedAmount Amount(SourceKind kind, string signal, int sources, CollectionPlan plan, CollectionPlan? inForce, Inventory inventory, MeasuredKinds measured, DateTimeOffset now)
    {
        var (title, series) = kind switch
        {
            SourceKind.NodeUsage => ("nodes, pods and containers", (double)(inventory.Nodes.Count * SeriesOfNode + Running(inventory).Sum(pod => SeriesOfPod + SeriesOfContainer * pod.Containers.Count))),
            SourceKind.ClusterState => ("state of the cluster", inventory.Nodes.Count * StateOfNode + inventory.Workloads.Count * StateOfWorkload + inventory.Pods.Sum(pod => StateOfPod + pod.Containers.Sum(State))),
            SourceKind.HostMetrics => ("kernels of the nodes", sources * UsualKernel),
            SourceKind.RuntimePage => ("pages of the runtimes", Running(inventory).Sum(pod => UsualOfPod + UsualOfEntry * (pod.Containers.Count + 1))),
            SourceKind.Endpoint => ("application endpoints", sources * UsualEndpoint),
            SourceKind.ContainerLog => ("lines of containers", 0),
            SourceKind.ClusterEvents => ("cluster events", 0),
            SourceKind.Syslog => ("syslog of machines", 0),
            SourceKind.Agent => ("the agents themselves", sources * (SeriesOfAgent + SeriesOfAgentSignal * plan.Signals.Count)),
            SourceKind.WorkloadSpans => ("spans", 0),
            _ => ("flow records", 0),
        };
        double every = plan.Metrics?.EverySecondsAt(now) ?? 15;
        // How many traces fail or are slow is not known before they are judged so.
        if (kind == SourceKind.WorkloadSpans && inForce?.Traces is { } was && plan.Traces is { } becomes && (was.Tail != becomes.Tail || (becomes.Tail is not null && was.Share != becomes.Share)))
            return new(signal, title, sources, 0, null, SizeBasis.Unknown);
        if (measured.PerSecond.TryGetValue(kind, out var rate) && measured.Sources.GetValueOrDefault(kind) is > 0 and var sent)
        {
            var carried = rate * sources / sent * (signal, inForce) switch
            {
                ("metrics", { Metrics: { } old }) => old.EverySecondsAt(now) / every,
                ("traces", { Traces: { } old }) => plan.Traces!.Share / old.Share,
                _ => 1,
            };
            return new(signal, title, sources, signal == "metrics" ? carried * every : 0, carried, SizeBasis.Measured);
        }
        return kind switch
        {
            SourceKind.NodeUsage or SourceKind.ClusterState or SourceKind.Agent => new(signal, title, sources, series, series / every, SizeBasis.Counted),
            SourceKind.HostMetrics or SourceKind.Endpoint or SourceKind.RuntimePage => new(signal, title, sources, series, series / every, SizeBasis.Usual),
            SourceKind.ContainerLog => new(signal, title, sources, 0, sources * UsualLines, SizeBasis.Usual),
            _ => new(signal, title, sources, 0, null, SizeBasis.Unknown),
        };
    }

    private static IEnumerable<PodState> Running(Inventory inventory) => inventory.Pods.Where(pod => pod.Phase == "Running");

    // Requests and limits are written where they are set.
    private static int State(ContainerState container) =>
        StateOfContainer + new[] { container.Request.Cores, container.Request.Memory, container.Limit.Cores, container.Limit.Memory }.Count(amount => amount > 0);
}
