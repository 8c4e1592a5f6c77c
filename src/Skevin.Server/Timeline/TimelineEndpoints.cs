using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Server.Access;
using Skevin.Server.Clusters;
using Skevin.Server.Setup;
using Skevin.Storage;
using Skevin.Storage.Arrivals;

namespace Skevin.Server.Timeline;

/// <summary>Something that happened.</summary>
public sealed record MarkView(DateTimeOffset At, string Kind, string Text);

/// <summary>A day or more of a cluster for the time strip.</summary>
/// <param name="From">Start of the first slot.</param>
/// <param name="SlotMinutes">Width of a slot.</param>
/// <param name="Samples">Samples stored in each slot.</param>
/// <param name="BackFilled">How many of them came more than 10 min after their time.</param>
public sealed record TimelineView(DateTimeOffset From, int SlotMinutes, IReadOnlyList<long> Samples, IReadOnlyList<long> BackFilled, IReadOnlyList<MarkView> Marks);

/// <summary>What the time strip draws.</summary>
public static class TimelineEndpoints
{
    /// <summary>Maps it.</summary>
    public static void MapTimeline(this IEndpointRouteBuilder routes) =>
        routes.MapGet("/api/timeline", async Task<Results<Ok<TimelineView>, ProblemHttpResult>> (
            string? cluster, DateTimeOffset from, int slotMinutes, int slots, ClaimsPrincipal user, ClusterWatchers watchers, ArrivalBook book,
            IDbContextFactory<SkevinContext> contexts, CancellationToken stop) =>
        {
            if (watchers.Visible(cluster, user) is not { } watched)
                return ClusterEndpoints.NotThere(cluster).Http();
            if (slotMinutes is < 1 or > 1440 || slots is < 1 or > 1000)
                return new Problem(400, "The time strip cannot be drawn.", "slotMinutes is from 1 to 1440, slots from 1 to 1000.").Http();
            var minute = from.ToUnixTimeSeconds() / 60;
            var begin = DateTimeOffset.FromUnixTimeSeconds(minute * 60);
            var end = begin.AddMinutes((double)slotMinutes * slots);
            await using var context = await contexts.CreateDbContextAsync(stop);
            var marks = await context.Marks.AsNoTracking().Where(mark => mark.ClusterId == watched.Id && mark.At >= begin && mark.At < end)
                .OrderByDescending(mark => mark.At).Take(300).ToListAsync(stop);
            var (samples, backFilled) = await book.Profile(watched.Id, minute, slotMinutes, slots, stop);
            return TypedResults.Ok(new TimelineView(begin, slotMinutes, samples, backFilled,
                [.. marks.Where(mark => mark.Namespace is null ? mark.Kind == "rollout" || user.Scope().Namespaces is null : user.Scope().Sees(watched.Name, mark.Namespace))
                    .OrderBy(mark => mark.At).Select(mark => new MarkView(mark.At, mark.Kind, mark.Text))]));
        }).Needs(Roles.Reader);
}
