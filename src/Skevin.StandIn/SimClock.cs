namespace Skevin.StandIn;

/// <summary>The stand-in's clock. It stands still, is moved by hand while the past is made up for, and then follows real time.</summary>
public sealed class SimClock : TimeProvider
{
    private long _heldTicks;

    /// <summary>A clock that stands at a moment; null for one that follows real time.</summary>
    public SimClock(DateTimeOffset? held) => _heldTicks = held?.UtcTicks ?? 0;

    /// <summary>Whether it follows real time.</summary>
    public bool FollowsRealTime => Interlocked.Read(ref _heldTicks) == 0;

    /// <inheritdoc/>
    public override DateTimeOffset GetUtcNow()
    {
        var held = Interlocked.Read(ref _heldTicks);
        return held == 0 ? System.GetUtcNow() : new DateTimeOffset(held, TimeSpan.Zero);
    }

    /// <summary>Moves a held clock forward.</summary>
    public void MoveTo(DateTimeOffset moment) => Interlocked.Exchange(ref _heldTicks, moment.UtcTicks);

    /// <summary>Lets it follow real time from now on.</summary>
    public void Release() => Interlocked.Exchange(ref _heldTicks, 0);
}
