using System.Net;
using Skevin.Core.Blocks;

namespace Skevin.Core.Traffic;

/// <summary>Single flows as they are kept for an hour, the whole compressed with zstd.</summary>
public static class FlowRecordBlock
{
    private const byte Version = 1;

    /// <summary>Encodes flows.</summary>
    public static byte[] Encode(IEnumerable<FlowRecord> flows)
    {
        var writer = new BlockWriter();
        var ordered = flows.OrderBy(flow => flow.End).ToArray();
        writer.Unsigned((ulong)ordered.Length);
        var before = 0L;
        foreach (var flow in ordered)
        {
            writer.Signed(flow.End - before);
            before = flow.End;
            writer.Signed(flow.End - flow.Start);
            writer.Text(flow.Node);
            writer.Unsigned((ulong)flow.Direction);
            writer.Text(flow.Source.ToString());
            writer.Text(flow.Destination.ToString());
            writer.Unsigned(flow.SourcePort);
            writer.Unsigned(flow.DestinationPort);
            writer.Unsigned(flow.Protocol);
            writer.Unsigned(flow.TcpFlags);
            writer.Unsigned(flow.Status);
            writer.Unsigned(flow.Packets);
            writer.Unsigned(flow.Bytes);
            writer.Text(flow.Method);
            writer.Text(flow.Target);
            writer.Text(flow.Host);
            writer.Unsigned(flow.HttpStatus);
            writer.Unsigned(flow.Flows);
        }
        return writer.Finish(Version);
    }

    /// <summary>Decodes what <see cref="Encode"/> wrote.</summary>
    /// <exception cref="FormatException">The bytes are no such block.</exception>
    public static FlowRecord[] Decode(ReadOnlySpan<byte> block)
    {
        var reader = new BlockReader(block, Version);
        IPAddress Address() => IPAddress.TryParse(reader.Text(), out var address) ? address : throw new FormatException("The block is damaged: no address.");
        var flows = new FlowRecord[reader.Count()];
        var end = 0L;
        for (var i = 0; i < flows.Length; i++)
        {
            end += reader.Signed();
            var length = reader.Signed();
            flows[i] = new FlowRecord(reader.Text(), (FlowDirection)(byte)reader.Unsigned(), Address(), Address(), (ushort)reader.Unsigned(), (ushort)reader.Unsigned(), (byte)reader.Unsigned(), (byte)reader.Unsigned(), (byte)reader.Unsigned(),
                end - length, end, reader.Unsigned(), reader.Unsigned(), reader.Text(), reader.Text(), reader.Text(), (ushort)reader.Unsigned(), reader.Unsigned());
        }
        return flows;
    }
}
