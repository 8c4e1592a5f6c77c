using System.Runtime.InteropServices;

namespace Skevin.Core.Traffic;

/// <summary>
/// A flow between two nodes is seen twice: where it leaves and where it arrives. The record of where it leaves counts; what was
/// dropped on arrival is taken from those that left.
/// </summary>
public static class FlowPairing
{
    private readonly record struct Pair(long Minute, System.Net.IPAddress Source, System.Net.IPAddress Destination, ushort Port, byte Protocol, string Method, string Path)
    {
        // As of FlowKey: the texts cost more to hash than they tell.
        public override int GetHashCode() => HashCode.Combine(Minute, Source, Destination, Port);
    }

    /// <summary>Sums in which every flow stands once.</summary>
    /// <param name="minutes">All observations of whole minutes.</param>
    public static IReadOnlyList<FlowMinute> Once(IEnumerable<FlowMinute> minutes)
    {
        var all = FlowMinutes.Sum(minutes);
        var result = new List<FlowMinute>(all.Count);
        // Observations of the same flows as chains through one array: there are very many, and most chains have one or two.
        var (newest, next, isFirst) = (new Dictionary<Pair, int>(all.Count), new int[all.Count], new bool[all.Count]);
        for (var i = all.Count - 1; i >= 0; i--)
        {
            var key = all[i].Key;
            ref var head = ref CollectionsMarshal.GetValueRefOrAddDefault(newest, new Pair(key.Minute, key.Source, key.Destination, key.Port, key.Protocol, key.Method, key.Path), out var known);
            (next[i], isFirst[i]) = (known ? head : -1, true);
            if (known)
                isFirst[head] = false;
            head = i;
        }
        var (left, arrived) = (new List<FlowMinute>(), new List<FlowMinute>());
        for (var first = 0; first < all.Count; first++)
        {
            if (!isFirst[first])
                continue;
            left.Clear();
            arrived.Clear();
            for (var i = first; i >= 0; i = next[i])
                (all[i].Key.Direction == FlowDirection.Egress ? left : arrived).Add(all[i]);
            if (left.Count > 0)
                TakeDropped(left, arrived, result);
            else
                result.AddRange(arrived);
        }
        return result;
    }

    // What was dropped on arrival is taken from those that left; what arrived well is known from where it left.
    private static void TakeDropped(List<FlowMinute> left, List<FlowMinute> arrived, List<FlowMinute> result)
    {
        foreach (var dropped in arrived)
        {
            if (!ForwardingStatus.IsDropped(dropped.Key.Status))
                continue;
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
        // Without an arrival nothing was taken, so what carried no flow stays as it was seen.
        result.AddRange(arrived.Count == 0 ? left : left.Where(minute => minute.Flows > 0));
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
