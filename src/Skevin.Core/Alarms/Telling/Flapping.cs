namespace Skevin.Core.Alarms.Telling;

/// <summary>What becomes of the message of a transition.</summary>
public enum FlapVerdict
{
    /// <summary>It is told as it is.</summary>
    Tell,

    /// <summary>It is told once more, and that from now on only its rest will be.</summary>
    TellLast,

    /// <summary>It is not told; those who were told believe what is true.</summary>
    HoldBack,

    /// <summary>It is told when nothing has changed for <see cref="Flapping.Calm"/>.</summary>
    TellWhenCalm,
}

/// <summary>Holds messages of an alarm back that comes and goes. The figures are common practice, no source.</summary>
public static class Flapping
{
    /// <summary>So often raised within <see cref="Within"/>, an alarm comes and goes.</summary>
    public const int Raises = 4;

    /// <summary>The time it is counted over.</summary>
    public static readonly TimeSpan Within = TimeSpan.FromHours(1);

    /// <summary>How long it must stay cleared before that is told.</summary>
    public static readonly TimeSpan Calm = TimeSpan.FromMinutes(20);

    /// <summary>Judges a transition.</summary>
    /// <param name="transition">What happens now.</param>
    /// <param name="raised">When it was raised, this time among them where it is raised now.</param>
    /// <param name="now">The time.</param>
    public static FlapVerdict Judge(AlarmTransition transition, IEnumerable<DateTimeOffset> raised, DateTimeOffset now)
    {
        var times = raised.Count(at => at > now - Within && at <= now);
        return times < Raises ? FlapVerdict.Tell : transition == AlarmTransition.Cleared ? FlapVerdict.TellWhenCalm : times == Raises ? FlapVerdict.TellLast : FlapVerdict.HoldBack;
    }
}
