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

    /// <summary>Judges every slot of an answer.</summary>
    public static IReadOnlyList<RaisedStretch> Over(AlarmRule rule, Bounds bounds, Answer answer)
    {
        var width = (long)answer.Every.TotalMilliseconds;
        var stretches = new List<RaisedStretch>();
        foreach (var series in answer.Series)
        {
            var status = AlarmStatus.Quiet;
            for (var i = 0; i < series.Values.Length; i++)
            {
                var end = answer.FirstEnd + i * width;
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
