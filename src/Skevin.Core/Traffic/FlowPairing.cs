namespace Skevin.Core.Traffic;

/// <summary>
/// A flow between two nodes is seen twice: where it leaves and where it arrives. The record of where it leaves counts; what was
/// dropped on arrival is taken from those that left.
/// </summary>
public static class FlowPairing
{
    private sealed record Pair(long Minute, System.Net.IPAddress Source, System.Net.IPAddress Destination, ushort Port, byte Protocol, string Method, string Path);

    /// <summary>Sums in which every flow stands once.</summary>
    /// <param name="minutes">All observations of whole minutes.</param>
    public static IReadOnlyList<FlowMinute> Once(IEnumerable<FlowMinute> minutes)
    {
        var result = new List<FlowMinute>();
        var groups = FlowMinutes.Sum(minutes).GroupBy(minute => new Pair(minute.Key.Minute, minute.Key.Source, minute.Key.Destination, minute.Key.Port, minute.Key.Protocol, minute.Key.Method, minute.Key.Path));
        foreach (var group in groups)
        {
            var left = group.Where(minute => minute.Key.Direction == FlowDirection.Egress).ToList();
            var arrived = group.Where(minute => minute.Key.Direction != FlowDirection.Egress).ToArray();
            if (left.Count == 0 || arrived.Length == 0)
            {
                result.AddRange(group);
                continue;
            }
            foreach (var dropped in arrived.Where(minute => ForwardingStatus.IsDropped(minute.Key.Status)))
            {
                var rest = dropped;
                for (var i = 0; i < left.Count && rest.Flows > 0; i++)
                {
                    var sent = left[i];
                    if (ForwardingStatus.IsDropped(sent.Key.Status))
                        continue;
                    var moved = Math.Min(sent.Flows, rest.Flows);
                    if (moved == 0)
                        continue;
                    left[i] = Share(sent, sent.Flows - moved);
                    rest = Share(rest, rest.Flows - moved);
                }
                result.Add(dropped);
            }
            result.AddRange(left.Where(minute => minute.Flows > 0));
        }
        return result;
    }

    // Clocks of two nodes do not say quite the same.
    private const long Together = 2000;

    /// <summary>Single flows, each once: of the two records of a flow the one of where it leaves, or the one of where it was dropped.</summary>
    public static IReadOnlyList<FlowRecord> Once(IEnumerable<FlowRecord> flows)
    {
        var result = new List<FlowRecord>();
        foreach (var same in flows.Distinct().GroupBy(flow => (flow.Source, flow.Destination, flow.SourcePort, flow.DestinationPort, flow.Protocol)))
        {
            var left = same.Where(flow => flow.Direction == FlowDirection.Egress).OrderBy(flow => flow.End).ToList();
            foreach (var arrived in same.Where(flow => flow.Direction != FlowDirection.Egress).OrderBy(flow => flow.End))
            {
                var pair = left.FindIndex(flow => Math.Abs(flow.End - arrived.End) <= Together);
                if (pair < 0)
                {
                    result.Add(arrived);
                    continue;
                }
                result.Add(ForwardingStatus.IsDropped(arrived.Status) ? arrived : left[pair]);
                left.RemoveAt(pair);
            }
            result.AddRange(left);
        }
        return result;
    }

    private static FlowMinute Share(FlowMinute whole, long flows) => whole.Flows == 0 ? whole : whole with
    {
        Flows = flows,
        Packets = (long)((double)whole.Packets * flows / whole.Flows),
        Bytes = (long)((double)whole.Bytes * flows / whole.Flows),
        Failed = (long)((double)whole.Failed * flows / whole.Flows),
    };
}
