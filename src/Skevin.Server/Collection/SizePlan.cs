using Skevin.Core.Arrivals;
using Skevin.Core.Collection;
using Skevin.Server.Clusters;
using Skevin.Server.Setup;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Collection;

/// <summary>Sizes a plan by the inventory and by what was measured under the plan in force.</summary>
public sealed class SizePlan(SampleStore store, MeasureCollection measure, Settings settings, Retentions retentions, TimeProvider clock)
{
    /// <summary>Name of the setting that holds the prices.</summary>
    public const string PricesSetting = "prices";

    private const int OverMinutes = 10;
    private const long EnoughItems = 200_000;

    /// <summary>Does it.</summary>
    /// <param name="cluster">The cluster.</param>
    /// <param name="plan">The plan to size.</param>
    /// <param name="inForce">The plan in force; null where there is none.</param>
    /// <param name="stop">Cancels.</param>
    public async Task<PlanSize> Run(WatchedCluster cluster, CollectionPlan plan, CollectionPlan? inForce, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        return Sizing.Of(plan, inForce, cluster.Watch.Current, inForce is null ? MeasuredKinds.None with { BytesPerItem = await BytesPerItem(stop) } : await Measured(cluster.Id, now, stop),
            await settings.Read<Prices>(PricesSetting, stop), retentions.Of, now);
    }

    private async Task<MeasuredKinds> Measured(int cluster, DateTimeOffset now, CancellationToken stop)
    {
        // A kind counts from its first whole minute on: one that began a minute ago is not spread over ten.
        var running = now.ToUnixTimeSeconds() / 60;
        var found = (await StoredRates.BySource(store, cluster, running - OverMinutes, running, stop)).Select(one => (Kind: KindOf(one.Signal, one.Source), one.Items, one.First))
            .Where(one => one.Kind is not null).Select(one => (Kind: one.Kind!.Value, one.Items, one.First));
        var kinds = found.GroupBy(one => one.Kind).Select(group => (Kind: group.Key, Minutes: running - group.Min(one => one.First) - 1, group)).Where(one => one.Minutes >= 2).ToArray();
        return new MeasuredKinds(
            kinds.ToDictionary(one => one.Kind, one => one.group.Sum(source => source.Items) / ((one.Minutes + 1) * 60)),
            kinds.ToDictionary(one => one.Kind, one => one.group.Count()), await BytesPerItem(stop));
    }

    // What others push is of no kind a plan chooses.
    private static SourceKind? KindOf(string signal, string source) => (signal, source) switch
    {
        _ when source.StartsWith(ExpectedSources.Machines, StringComparison.Ordinal) => null,
        ("metrics", ExpectedSources.ClusterState) => SourceKind.ClusterState,
        ("metrics", _) when source.StartsWith(ExpectedSources.NodeUsage(""), StringComparison.Ordinal) => SourceKind.NodeUsage,
        ("metrics", _) when source.StartsWith(ExpectedSources.Host(""), StringComparison.Ordinal) => SourceKind.HostMetrics,
        ("metrics", _) when source.StartsWith(ExpectedSources.Server(""), StringComparison.Ordinal) => null,
        ("metrics", _) when source.StartsWith(ExpectedSources.Runtime(""), StringComparison.Ordinal) => SourceKind.RuntimePage,
        ("metrics", _) when source.StartsWith(ExpectedSources.Own(""), StringComparison.Ordinal) => SourceKind.Agent,
        ("metrics", _) => ExpectedSources.IsEndpoint(source) ? SourceKind.Endpoint : null,
        ("logs", ExpectedSources.ClusterEvents) => SourceKind.ClusterEvents,
        ("logs", _) when source.StartsWith(ExpectedSources.Syslog(""), StringComparison.Ordinal) => SourceKind.Syslog,
        ("logs", _) => SourceKind.ContainerLog,
        ("traces", _) => SourceKind.WorkloadSpans,
        _ => SourceKind.FlowExporter,
    };

    private async Task<IReadOnlyDictionary<string, double>> BytesPerItem(CancellationToken stop)
    {
        var bytes = await measure.Bytes(stop);
        await using var command = store.Database.CreateCommand("select signal, sum(samples) from arrival_minute group by signal having sum(samples) > @enough");
        command.Parameters.AddWithValue("enough", EnoughItems);
        var each = new Dictionary<string, double>();
        await using var rows = await command.ExecuteReaderAsync(stop);
        while (await rows.ReadAsync(stop))
            if (bytes.GetValueOrDefault(rows.GetString(0)) is > 0 and var stored)
                each[rows.GetString(0)] = (double)stored / (double)rows.GetDecimal(1);
        return each;
    }
}
