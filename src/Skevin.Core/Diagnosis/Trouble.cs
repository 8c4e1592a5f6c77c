using Skevin.Core.Collection;

namespace Skevin.Core.Diagnosis;

/// <summary>Where a trouble is cured.</summary>
public enum TroublePlace
{
    /// <summary>Outside Skevin.</summary>
    Outside,

    /// <summary>In the plan, by leaving something out.</summary>
    Trimming,

    /// <summary>In the plan's roll-out.</summary>
    Plan,
}

/// <summary>What is wrong though everything arrives: too much of it, or with wrong times.</summary>
/// <param name="Short">A few words.</param>
/// <param name="Text">What happened, and what it means.</param>
/// <param name="Fix">The one thing to do.</param>
/// <param name="Place">Where that is done.</param>
/// <param name="Proof">The raw evidence, line by line.</param>
public sealed record Trouble(string Short, string Text, string Fix, TroublePlace Place, IReadOnlyList<string> Proof);

/// <summary>What is known of a cluster beside whether its sources send.</summary>
/// <param name="Metrics">Costs of its metrics.</param>
/// <param name="Logs">Lines a minute of each container lately, and in the hour before.</param>
/// <param name="Clocks">By how much the clock of each sender is ahead; negative where it is behind.</param>
/// <param name="RollOut">How far the newest roll-out is; null where there was none.</param>
/// <param name="Revision">Its revision.</param>
/// <param name="Destinations">What agents said lately of their further destinations.</param>
public sealed record ClusterEvidence(IReadOnlyList<MetricCost> Metrics, IReadOnlyList<LineRate> Logs, IReadOnlyDictionary<string, TimeSpan> Clocks, RollOutSummary? RollOut = null, int Revision = 0, IReadOnlyList<Arrivals.SourceReport>? Destinations = null);

/// <summary>Lines of a container.</summary>
/// <param name="Source">namespace/pod/container.</param>
/// <param name="Lately">Lines a minute, mean of the last two whole minutes.</param>
/// <param name="Before">Lines a minute, median of the hour before; NaN where less than ten minutes of it are known.</param>
public sealed record LineRate(string Source, double Lately, double Before);

/// <summary>All rules about what arrives too much or with wrong times.</summary>
public static class Troubles
{
    /// <summary>What is proved.</summary>
    public static IReadOnlyList<Trouble> Of(ClusterEvidence evidence) => [.. LabelExplosion.Find(evidence.Metrics), .. LogFlood.Find(evidence.Logs), .. ClockApart.Find(evidence.Clocks), .. AgentsOfTwoRevisions.Find(evidence.RollOut, evidence.Revision), .. DestinationRefuses.Find(evidence.Destinations ?? [])];
}
