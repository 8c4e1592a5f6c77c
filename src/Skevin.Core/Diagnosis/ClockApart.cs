namespace Skevin.Core.Diagnosis;

/// <summary>A sender's clock is not the server's, told by the date its requests carry. Stamps are never altered, so what it sends stands at the wrong time.</summary>
public static class ClockApart
{
    private static readonly TimeSpan Least = TimeSpan.FromSeconds(5);

    /// <summary>One trouble a sender.</summary>
    public static IEnumerable<Trouble> Find(IReadOnlyDictionary<string, TimeSpan> clocks) => clocks.Where(clock => clock.Value.Duration() > Least).OrderBy(clock => clock.Key, StringComparer.Ordinal).Select(clock => new Trouble(
        $"the clock of {clock.Key} is {clock.Value.Duration().TotalSeconds:0} s {(clock.Value < TimeSpan.Zero ? "behind" : "ahead")}",
        $"Requests of {clock.Key} carry a date {clock.Value.Duration().TotalSeconds:0} s {(clock.Value < TimeSpan.Zero ? "before" : "after")} the server's. What it measures stands at the wrong time: it does not line up with other nodes, and rules judge it too {(clock.Value < TimeSpan.Zero ? "late" : "early")}.",
        $"Set the clock of {clock.Key} by a time service. Nothing is altered afterwards.",
        TroublePlace.Outside,
        [$"Date of its last request: {clock.Value.TotalSeconds:+0.0;-0.0} s against the server's clock"]));
}
