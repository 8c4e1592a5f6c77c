using System.Collections.Concurrent;
using System.Text.Json;
using k8s;
using Skevin.Core.Arrivals;
using Skevin.Core.Collection;
using Skevin.Server.Clusters;
using Skevin.Server.Collection;
using Skevin.Server.Collection.Machines;
using Skevin.Storage.Arrivals;

namespace Skevin.Server.Arrivals;

/// <summary>Judges every expected source of a cluster.</summary>
public sealed class JudgeArrivals(PlansInForce plans, KeepMachines machines, ArrivalBook book, AgentStatusProbe probe, TimeProvider clock)
{
    /// <summary>All sources, judged now; empty where nothing is collected.</summary>
    public async Task<IReadOnlyList<JudgedSource>> Run(WatchedCluster cluster, CancellationToken stop)
    {
        var current = await plans.InForce(cluster.Id, stop);
        var outside = await machines.All(cluster.Id, stop);
        if (current is null && outside.Count == 0)
            return [];
        var now = clock.GetUtcNow();
        IReadOnlyList<JudgedSource> Judged(Refusal? refusal) =>
        [
            .. (current is null ? [] : ExpectedSources.Of(current.Plan, cluster.Watch.Current)).Concat(outside.SelectMany(machine => ExpectedSources.Of(machine.Plan, machine.State))).Select(source => ArrivalJudgement.Judge(
                // A refused push of the cluster's agents says nothing of a machine, which has a token of its own.
                new SourceEvidence(source, book.Record(cluster.Id, source.Signal, source.Name), book.Report(cluster.Id, source.Signal, source.Name), source.Machine is null ? refusal : null)
                {
                    PlanRevision = current?.Revision.ToString(System.Globalization.CultureInfo.InvariantCulture), At = now,
                }, now)),
        ];
        var refused = book.Refused(cluster.Id);
        var judged = Judged(refused);
        // Where nothing comes and no refused push is known, the agents themselves are asked, through the cluster API.
        if (refused is null && judged.Any(source => source is { State: ArrivalState.Late or ArrivalState.Silent, Evidence.Expected.Machine: null })
            && await probe.Refusal(cluster, [.. judged.Select(source => source.Evidence.Expected.Agent).OfType<Core.Clusters.PodState>()], stop) is { } found)
            return Judged(found);
        return judged;
    }
}

/// <summary>Asks an agent for its <c>/status</c> through the cluster API's pod proxy, at most every 5 s a cluster.</summary>
public sealed class AgentStatusProbe(TimeProvider clock)
{
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(5);
    private readonly ConcurrentDictionary<int, (DateTimeOffset At, Refusal? Refusal)> _last = new();

    /// <summary>The refusal an agent reports of its pushes, or null where it reports none or does not answer.</summary>
    public async Task<Refusal?> Refusal(WatchedCluster cluster, IReadOnlyList<Core.Clusters.PodState> agents, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        if (_last.TryGetValue(cluster.Id, out var last) && now - last.At < Every)
            return last.Refusal;
        Refusal? refusal = null;
        if (agents.FirstOrDefault(agent => agent.Ready) is { } agent)
            try
            {
                using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
                patience.CancelAfter(TimeSpan.FromSeconds(3));
                await using var body = await cluster.Client.CoreV1.ConnectGetNamespacedPodProxyWithPathAsync(
                    $"{agent.Name}:{Manifests.StatusPort}", agent.Namespace, "status", cancellationToken: patience.Token);
                using var status = await JsonDocument.ParseAsync(body, cancellationToken: patience.Token);
                if (status.RootElement.TryGetProperty("lastPush", out var push) && push.ValueKind == JsonValueKind.Object && push.GetProperty("status").GetInt32() is (401 or 403))
                    refusal = new Refusal(push.GetProperty("at").GetDateTimeOffset(), 1, null);
            }
            catch (Exception trouble) when (trouble is k8s.Autorest.HttpOperationException or HttpRequestException or JsonException or IOException
                || (trouble is OperationCanceledException && !stop.IsCancellationRequested))
            {
                // It does not answer; the other evidence has to do.
            }
        _last[cluster.Id] = (now, refusal);
        return refusal;
    }
}
