using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Alarms;

/// <summary>A stretch in which a rule would have been raised.</summary>
/// <param name="To">Null where it would still be raised at the end.</param>
public sealed record RaisedStretch(Labels Labels, long From, long? To, double Worst);

/// <summary>What a rule would have done over history.</summary>
public static class Replay
{
    /// <summary>A clearing within this is counted as brief.</summary>
    public static readonly TimeSpan Brief = TimeSpan.FromMinutes(3);

    /// <summary>How many stretches were cleared within <see cref="Brief"/>.</summary>
    public static int Briefly(IEnumerable<RaisedStretch> raised) => raised.Count(stretch => stretch.To is { } to && to - stretch.From <= Brief.TotalMilliseconds);

    /// <summary>The same answer with at most so many slots, to be drawn: of slots that become one, the value nearest to being raised, or beyond it.</summary>
    public static Answer Thinned(Answer answer, int most, bool above)
    {
        var count = answer.Series.Select(series => series.Values.Length).DefaultIfEmpty(0).Max();
        if (count <= most)
            return answer;
        var together = (count + most - 1) / most;
        var width = (long)answer.Every.TotalMilliseconds;
        return answer with
        {
            Every = answer.Every * together,
            FirstEnd = answer.FirstEnd + (together - 1) * width,
            Series = [.. answer.Series.Select(series => series with { Values = [.. series.Values.Chunk(together).Where(some => some.Length == together).Select(some => some.Where(double.IsFinite).DefaultIfEmpty(double.NaN) is var finite && above ? finite.Max() : finite.Min())] })],
        };
    }

    /// <summary>Judges every slot of an answer.</summary>
    public static IReadOnlyList<RaisedStretch> Over(AlarmRule rule, Bounds bounds, Answer answer) => Over(rule, (_, _) => bounds, answer);

    /// <summary>Judges every slot of an answer under bounds of its own; one without bounds is passed over.</summary>
    public static IReadOnlyList<RaisedStretch> Over(AlarmRule rule, Func<Labels, long, Bounds?> boundsAt, Answer answer)
    {
        var width = (long)answer.Every.TotalMilliseconds;
        var stretches = new List<RaisedStretch>();
        foreach (var series in answer.Series)
        {
            var status = AlarmStatus.Quiet;
            for (var i = 0; i < series.Values.Length; i++)
            {
                var end = answer.FirstEnd + i * width;
                if (boundsAt(series.Labels, end) is not { } bounds)
                    continue;
                var (next, transition) = AlarmMachine.Judge(status, series.Values[i], end, width, rule, bounds);
                if (transition == AlarmTransition.Cleared)
                    stretches.Add(new RaisedStretch(series.Labels, status.RaisedAt, end, status.Worst));
                status = next;
            }
            if (status.IsRaised)
                stretches.Add(new RaisedStretch(series.Labels, status.RaisedAt, null, status.Worst));
        }
        return [.. stretches.OrderBy(stretch => stretch.From)];
    }
}
