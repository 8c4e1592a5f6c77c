using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>A further destination does not take what the agents send it.</summary>
internal static class DestinationRefuses
{
    /// <summary>One trouble a destination, while an agent says so.</summary>
    /// <param name="reports">What agents said lately of their destinations.</param>
    public static IEnumerable<Trouble> Find(IReadOnlyList<SourceReport> reports)
    {
        foreach (var group in reports.Where(report => report.Error is not null).GroupBy(report => report.Source["destination/".Length..report.Source.IndexOf(" of ", StringComparison.Ordinal)]))
        {
            var refused = group.Any(report => report.Error!.StartsWith("401 ", StringComparison.Ordinal) || report.Error.StartsWith("403 ", StringComparison.Ordinal));
            yield return new Trouble(
                $"{group.Key} takes nothing",
                $"{group.Count()} {(group.Count() == 1 ? "agent waits" : "agents wait")} to send to the destination {group.Key}: {group.First().Error}. What waits stays on their disks up to their limit; what is sent here is not held up.",
                refused ? "Give it a header that is valid, under Collect, Destinations." : "Is the address right, and is it up? Under Collect, Destinations it can be changed or removed.",
                TroublePlace.Plan,
                [.. group.OrderBy(report => report.Source, StringComparer.Ordinal).Select(report => $"{report.At:HH:mm:ss} agent on {report.Agent}: {report.Error}")]);
        }
    }
}
