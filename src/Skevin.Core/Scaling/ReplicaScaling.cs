namespace Skevin.Core.Scaling;

/// <summary>How many pods a workload should have, by what its pods use. Source: the cluster's documentation, "Horizontal Pod Autoscaling", algorithm details (from memory).</summary>
public static class ReplicaScaling
{
    /// <summary>A use so near the target changes nothing.</summary>
    public const double Tolerance = 0.1;

    /// <summary>How long a greater number is held before pods are taken away, where nothing else is said.</summary>
    public static readonly TimeSpan HoldsBeforeFewer = TimeSpan.FromSeconds(300);

    /// <summary>The number for the use as it is: current × use / target, rounded up; the current one within the tolerance.</summary>
    /// <param name="current">Pods there are.</param>
    /// <param name="use">Mean use of the ready pods, in the target's unit.</param>
    /// <param name="target">Use each pod should have; greater than 0.</param>
    public static int Wanted(int current, double use, double target)
    {
        var ratio = use / target;
        return current == 0 || Math.Abs(ratio - 1) <= Tolerance ? current : (int)Math.Ceiling(current * ratio - 1e-9);
    }

    /// <summary>The number that is set: never fewer than was wanted lately, never more than twice as many or four more at once, within the bounds.</summary>
    /// <param name="current">Pods there are.</param>
    /// <param name="lately">What was wanted within <see cref="HoldsBeforeFewer"/>, now included.</param>
    /// <param name="least">Fewest pods.</param>
    /// <param name="most">Most pods.</param>
    public static int Set(int current, IEnumerable<int> lately, int least, int most)
    {
        var all = lately.ToArray();
        // Of the last minutes the greatest, so that one quiet moment takes nothing away; more is wanted only as far as the last says.
        var held = Math.Max(all[^1], Math.Min(current, all.Max()));
        return Math.Clamp(Math.Min(held, Math.Max(2 * current, current + 4)), least, most);
    }
}
