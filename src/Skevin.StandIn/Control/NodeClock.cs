using Skevin.StandIn.Model;

namespace Skevin.StandIn.Control;

/// <summary>The clock of a node: the stand-in's, or behind it while that fault is on. What waits by it waits as long as ever.</summary>
public sealed class NodeClock(SimClock clock, SimCluster cluster, string node) : TimeProvider
{
    private static readonly TimeSpan Behind = TimeSpan.FromSeconds(40);

    private readonly bool _mayBeBehind = cluster.Nodes.Count > 1 && cluster.Nodes[1] == node;

    /// <inheritdoc/>
    public override DateTimeOffset GetUtcNow() => clock.GetUtcNow() - (_mayBeBehind && cluster.Faults.IsOn(Faults.ClockBehind) ? Behind : TimeSpan.Zero);

    /// <inheritdoc/>
    public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period) => clock.CreateTimer(callback, state, dueTime, period);
}
