using System.Net;
using Skevin.Core.Blocks;

namespace Skevin.Core.Traffic;

/// <summary>What tells the flows of a minute apart.</summary>
/// <param name="Minute">The flows ended in (Minute − 60 s, Minute], epoch milliseconds.</param>
/// <param name="Node">Who saw it.</param>
/// <param name="Port">The server's port.</param>
/// <param name="Path">Template of the path, empty where the node saw none.</param>
public sealed record FlowKey(
    long Minute, string Node, FlowDirection Direction, IPAddress Source, IPAddress Destination, ushort Port, byte Protocol, byte Status, string Method, string Path, string Host)
{
    // Minute, ends and port tell nearly all apart; the texts would cost more to hash than they tell.
    /// <inheritdoc/>
    public override int GetHashCode() => HashCode.Combine(Minute, Source, Destination, Port, Direction, Status);
}

/// <summary>The sum of a minute's flows.</summary>
/// <param name="Failed">Of those, with an HTTP status from 500.</param>
public sealed record FlowMinute(FlowKey Key, long Flows, long Packets, long Bytes, byte Flags, long Failed)
{
    /// <summary>Both together: counts added, flags or-ed.</summary>
    public static FlowMinute operator +(FlowMinute a, FlowMinute b) =>
        a with { Flows = a.Flows + b.Flows, Packets = a.Packets + b.Packets, Bytes = a.Bytes + b.Bytes, Flags = (byte)(a.Flags | b.Flags), Failed = a.Failed + b.Failed };
}

/// <summary>Adds flows up by minute.</summary>
public static class FlowMinutes
{
    // More in one record is no count but a broken exporter.
    private const ulong MostFlows = 1UL << 32;

    /// <summary>Of records.</summary>
    public static IReadOnlyList<FlowMinute> Of(IEnumerable<FlowRecord> flows) => Sum(flows.Select(flow => new FlowMinute(
        new FlowKey((flow.End + 59_999) / 60_000 * 60_000, flow.Node, flow.Direction, flow.Source, flow.Destination, flow.DestinationPort, flow.Protocol, flow.Status,
            flow.Method, PathTemplate.Of(flow.Target), flow.Host),
        (long)Math.Min(flow.Flows, MostFlows), (long)Math.Min(flow.Packets, long.MaxValue), (long)Math.Min(flow.Bytes, long.MaxValue), flow.TcpFlags, flow.HttpStatus >= 500 ? (long)Math.Min(flow.Flows, MostFlows) : 0)));

    /// <summary>One flow as it is, with its own end in place of a minute.</summary>
    public static FlowMinute Single(FlowRecord flow) => Of([flow])[0] is var minute ? minute with { Key = minute.Key with { Minute = flow.End, Path = flow.Target } } : null!;

    /// <summary>Of sums: those with the same key become one.</summary>
    public static IReadOnlyList<FlowMinute> Sum(IEnumerable<FlowMinute> minutes)
    {
        var sums = new Dictionary<FlowKey, FlowMinute>();
        foreach (var minute in minutes)
            sums[minute.Key] = sums.TryGetValue(minute.Key, out var before) ? before + minute : minute;
        return [.. sums.Values];
    }
}

/// <summary>Minutes of flows as they are stored, the whole compressed with zstd.</summary>
public static class FlowBlock
{
    private const byte Version = 1;

    /// <summary>Encodes minutes.</summary>
    public static byte[] Encode(IEnumerable<FlowMinute> minutes)
    {
        var writer = new BlockWriter();
        var ordered = minutes.OrderBy(minute => minute.Key.Minute).ToArray();
        writer.Unsigned((ulong)ordered.Length);
        var before = 0L;
        foreach (var (key, flows, packets, bytes, flags, failed) in ordered)
        {
            writer.Signed(key.Minute - before);
            before = key.Minute;
            writer.Text(key.Node);
            writer.Unsigned((ulong)key.Direction);
            writer.Text(key.Source.ToString());
            writer.Text(key.Destination.ToString());
            writer.Unsigned(key.Port);
            writer.Unsigned(key.Protocol);
            writer.Unsigned(key.Status);
            writer.Text(key.Method);
            writer.Text(key.Path);
            writer.Text(key.Host);
            writer.Signed(flows);
            writer.Signed(packets);
            writer.Signed(bytes);
            writer.Unsigned(flags);
            writer.Signed(failed);
        }
        return writer.Finish(Version);
    }

    /// <summary>Decodes what <see cref="Encode"/> wrote.</summary>
    /// <exception cref="FormatException">The bytes are no such block.</exception>
    public static FlowMinute[] Decode(ReadOnlySpan<byte> block)
    {
        var reader = new BlockReader(block, Version);
        var addresses = new Dictionary<string, IPAddress>();
        IPAddress Address()
        {
            var text = reader.Text();
            if (!addresses.TryGetValue(text, out var address))
                addresses[text] = address = IPAddress.TryParse(text, out var parsed) ? parsed : throw new FormatException("The block is damaged: no address.");
            return address;
        }
        var minutes = new FlowMinute[reader.Count()];
        var time = 0L;
        for (var i = 0; i < minutes.Length; i++)
        {
            time += reader.Signed();
            var key = new FlowKey(time, reader.Text(), (FlowDirection)(byte)reader.Unsigned(), Address(), Address(), (ushort)reader.Unsigned(), (byte)reader.Unsigned(), (byte)reader.Unsigned(),
                reader.Text(), reader.Text(), reader.Text());
            minutes[i] = new FlowMinute(key, reader.Signed(), reader.Signed(), reader.Signed(), (byte)reader.Unsigned(), reader.Signed());
        }
        return minutes;
    }
}
