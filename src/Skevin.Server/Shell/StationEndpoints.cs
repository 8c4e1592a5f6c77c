using System.Security.Claims;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Core.Arrivals;
using Skevin.Server.Access;
using Skevin.Server.Arrivals;
using Skevin.Server.Clusters;
using Skevin.Server.Collection;
using Skevin.Server.Dashboards;
using Skevin.Storage;

namespace Skevin.Server.Shell;

/// <summary>How a signal flows: off, starting, flowing, late or refused.</summary>
/// <param name="Signal">metrics, logs, traces or flows.</param>
/// <param name="State">Its worst state that matters.</param>
/// <param name="Break">Station at which the trouble is, from 1; 0 where there is none.</param>
public sealed record StrandView(string Signal, string State, int Break);

/// <summary>Figures of the six stations and the strands, for the header.</summary>
public sealed record StationsView(
    int Clusters, int ReadyClusters, int SignalsCollected, int Sources, int Late, int Partial, int Refused, int Sheets, int Raised, int Acknowledged, IReadOnlyList<StrandView> Strands);

/// <summary>What the header shows.</summary>
public static class StationEndpoints
{
    /// <summary>Maps it.</summary>
    public static void MapStations(this IEndpointRouteBuilder routes) =>
        routes.MapGet("/api/stations", async (string? cluster, ClaimsPrincipal user, ClusterWatchers watchers, JudgeArrivals judge, PlansInForce plans,
            SheetBook sheets, IDbContextFactory<SkevinContext> contexts, CancellationToken stop) =>
        {
            var scope = user.Scope();
            var visible = watchers.All.Where(one => scope.Sees(one.Name)).ToArray();
            var ready = visible.Count(one => one.Watch.Errors.Count == 0 && one.Watch.Current.Nodes is { Count: > 0 } nodes && nodes.All(node => node.Ready));
            var watched = watchers.Visible(cluster, user) ?? (visible.Length > 0 ? visible[0] : null);
            IReadOnlyList<JudgedSource> sources = watched is null ? []
                : [.. (await judge.Run(watched, stop)).Where(source => scope.Sees(watched.Name, source.Evidence.Expected.Namespace))];
            var current = watched is null ? null : await plans.InForce(watched.Id, stop);
            await using var context = await contexts.CreateDbContextAsync(stop);
            var raised = await context.Alarms.AsNoTracking().Where(alarm => (alarm.State == AlarmState.Raised || alarm.State == AlarmState.Clearing) && (watched == null || alarm.ClusterId == watched.Id))
                .Select(alarm => alarm.AcknowledgedBy).ToListAsync(stop);
            int Count(params ArrivalState[] states) => sources.Count(source => states.Contains(source.State));
            var (late, partial) = (Count(ArrivalState.Late), Count(ArrivalState.Partial));
            var refused = Count(ArrivalState.Refused, ArrivalState.Silent);
            var collected = current?.Plan.Signals ?? [];
            return new StationsView(visible.Length, ready, collected.Count, sources.Count, late, partial, refused, (await sheets.All(stop)).Count, raised.Count, raised.Count(by => by is not null),
                [.. Signals.Select(signal => Strand(signal, collected.Contains(signal), [.. sources.Where(source => source.Evidence.Expected.Signal == signal)]))]);
        }).Needs(Roles.Reader);

    private static readonly string[] Signals = ["metrics", "logs", "traces", "flows"];

    // The worst state that matters, and the station it shows at.
    private static StrandView Strand(string signal, bool collected, JudgedSource[] sources)
    {
        bool Any(params ArrivalState[] states) => sources.Any(source => states.Contains(source.State));
        return !collected ? new StrandView(signal, "off", 0)
            : sources.Length == 0 ? new StrandView(signal, "starting", 2)
            : Any(ArrivalState.Refused, ArrivalState.Silent) ? new StrandView(signal, "refused", 3)
            : Any(ArrivalState.Late, ArrivalState.Partial) ? new StrandView(signal, "late", 3)
            : !Any(ArrivalState.OnTime) ? new StrandView(signal, "starting", 3)
            : new StrandView(signal, "flowing", 0);
    }
}
