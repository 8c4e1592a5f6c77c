namespace Skevin.Core.Alarms;

/// <summary>States of an alarm.</summary>
public enum AlarmState
{
    /// <summary>Nothing is wrong.</summary>
    Quiet,

    /// <summary>The bound is passed, but not for long enough.</summary>
    Holding,

    /// <summary>Raised.</summary>
    Raised,

    /// <summary>Raised, and the value is back, but not for long enough.</summary>
    Clearing,
}

/// <summary>An alarm of one series after a slot was judged.</summary>
/// <param name="State">The state.</param>
/// <param name="Since">Start of the slot in which the condition of holding or clearing began, epoch milliseconds.</param>
/// <param name="RaisedAt">End of the slot that raised it; 0 when it is not raised.</param>
/// <param name="Worst">The most extreme value since it was raised; NaN when it is not raised.</param>
public readonly record struct AlarmStatus(AlarmState State, long Since, long RaisedAt, double Worst)
{
    /// <summary>The beginning of every alarm.</summary>
    public static AlarmStatus Quiet { get; } = new(AlarmState.Quiet, 0, 0, double.NaN);

    /// <summary>Raised, or on the way to being cleared.</summary>
    public bool IsRaised => State is AlarmState.Raised or AlarmState.Clearing;
}

/// <summary>What judging a slot changed for those who are told.</summary>
public enum AlarmTransition
{
    /// <summary>Nothing.</summary>
    None,

    /// <summary>The alarm is raised.</summary>
    Raised,

    /// <summary>It is cleared.</summary>
    Cleared,
}

/// <summary>Quiet → holding → raised → clearing → quiet. The same code judges live and in replay.</summary>
public static class AlarmMachine
{
    /// <summary>Judges one slot of one series.</summary>
    /// <param name="before">The status after the slot before.</param>
    /// <param name="value">The slot's value; NaN where it has none.</param>
    /// <param name="slotEnd">End of the slot, epoch milliseconds.</param>
    /// <param name="width">Width of a slot in milliseconds.</param>
    /// <param name="rule">Hold times and what missing data means.</param>
    /// <param name="bounds">Bounds in the unit of the value.</param>
    public static (AlarmStatus Status, AlarmTransition Transition) Judge(
        AlarmStatus before, double value, long slotEnd, long width, AlarmRule rule, Bounds bounds)
    {
        var missing = double.IsNaN(value);
        if (missing && rule.Document.Missing == MissingData.Keep)
            return (before, AlarmTransition.None);
        var beyond = missing ? rule.Document.Missing == MissingData.Raise : bounds.Raises(value);
        var within = missing ? rule.Document.Missing == MissingData.Clear : bounds.Clears(value);
        var start = slotEnd - width;
        switch (before.State)
        {
            case AlarmState.Quiet or AlarmState.Holding when beyond:
                var since = before.State == AlarmState.Holding ? before.Since : start;
                return slotEnd - since >= rule.Hold.TotalMilliseconds
                    ? (new AlarmStatus(AlarmState.Raised, since, slotEnd, value), AlarmTransition.Raised)
                    : (new AlarmStatus(AlarmState.Holding, since, 0, double.NaN), AlarmTransition.None);
            case AlarmState.Quiet or AlarmState.Holding:
                return (AlarmStatus.Quiet, AlarmTransition.None);
            default:
                var worst = Worse(before.Worst, value, bounds);
                if (!within)
                    return (before with { State = AlarmState.Raised, Since = before.RaisedAt, Worst = worst }, AlarmTransition.None);
                var began = before.State == AlarmState.Clearing ? before.Since : start;
                return slotEnd - began >= rule.ClearHold.TotalMilliseconds
                    ? (AlarmStatus.Quiet, AlarmTransition.Cleared)
                    : (before with { State = AlarmState.Clearing, Since = began, Worst = worst }, AlarmTransition.None);
        }
    }

    private static double Worse(double worst, double value, Bounds bounds)
    {
        if (double.IsNaN(value) || double.IsNaN(worst))
            return double.IsNaN(value) ? worst : value;
        double Distance(double v) => Math.Max(v - (bounds.Above ?? double.PositiveInfinity), (bounds.Below ?? double.NegativeInfinity) - v);
        return Distance(value) > Distance(worst) ? value : worst;
    }
}
