using System.Net;
using Skevin.Core.Formats.Ipfix;
using E = Skevin.Core.Formats.Ipfix.InformationElements;

namespace Skevin.Core.Traffic;

/// <summary>Flows in IPFIX, both ways.</summary>
public static class FlowIpfix
{
    private static readonly FieldSpecifier[] Common =
    [
        new(E.SourceTransportPort, 2), new(E.DestinationTransportPort, 2), new(E.ProtocolIdentifier, 1), new(E.TcpControlBits, 1), new(E.ForwardingStatus, 1), new(E.FlowDirection, 1),
        new(E.FlowStartMilliseconds, 8), new(E.FlowEndMilliseconds, 8), new(E.FlowDeltaCount, 2), new(E.PacketDeltaCount, 4), new(E.OctetDeltaCount, 8), new(E.FlowEndReason, 1),
        new(E.HttpRequestMethod, E.VariableLength), new(E.HttpRequestHost, E.VariableLength), new(E.HttpRequestTarget, E.VariableLength), new(E.HttpStatusCode, 2),
    ];

    /// <summary>Template for IPv4.</summary>
    public static IpfixTemplate V4 { get; } = new(256, [new(E.SourceIPv4Address, 4), new(E.DestinationIPv4Address, 4), .. Common]);

    /// <summary>Template for IPv6.</summary>
    public static IpfixTemplate V6 { get; } = new(257, [new(E.SourceIPv6Address, 16), new(E.DestinationIPv6Address, 16), .. Common]);

    /// <summary>Options template that gives an observation domain its name: the node.</summary>
    public static IpfixTemplate DomainName { get; } = new(258, [new(E.ObservationDomainId, 4), new(E.ObservationDomainName, E.VariableLength)], 1);

    /// <summary>Writes a flow; its templates must be in the session.</summary>
    public static void Write(IpfixWriter writer, FlowRecord flow)
    {
        writer.Record(flow.Source.AddressFamily == System.Net.Sockets.AddressFamily.InterNetworkV6 ? V6 : V4);
        writer.Address(flow.Source);
        writer.Address(flow.Destination);
        writer.Number(flow.SourcePort, 2);
        writer.Number(flow.DestinationPort, 2);
        writer.Number(flow.Protocol, 1);
        writer.Number(flow.TcpFlags, 1);
        writer.Number(flow.Status, 1);
        writer.Number((ulong)flow.Direction, 1);
        writer.Number((ulong)flow.Start, 8);
        writer.Number((ulong)flow.End, 8);
        writer.Number(flow.Flows, 2);
        writer.Number(flow.Packets, 4);
        writer.Number(flow.Bytes, 8);
        // End of flow detected. Source: IANA, flowEndReason 3.
        writer.Number(3, 1);
        writer.Variable(flow.Method);
        writer.Variable(flow.Host);
        writer.Variable(flow.Target);
        writer.Number(flow.HttpStatus, 2);
    }

    /// <summary>Reads messages of one session into flows; options that name the domain are taken note of.</summary>
    public sealed class Session
    {
        private readonly IpfixReader _reader = new();
        private readonly Dictionary<uint, string> _names = [];

        /// <summary>Reads one message.</summary>
        /// <param name="message">Its bytes.</param>
        /// <param name="into">Receives the flows.</param>
        /// <exception cref="FormatException">The message is malformed.</exception>
        public IpfixMessage Read(ReadOnlySpan<byte> message, List<FlowRecord> into) => _reader.Read(message, record =>
        {
            if (record.Template.ScopeFields > 0)
            {
                NoteName(record);
                return;
            }
            if (Flow(record, _names.GetValueOrDefault(record.Header.Domain, "")) is { } flow)
                into.Add(flow);
        });

        private void NoteName(IpfixRecord record)
        {
            var (domain, name) = (record.Header.Domain, (string?)null);
            var rest = record.Bytes;
            foreach (var field in record.Template.Fields)
            {
                var value = IpfixReader.TakeField(field, ref rest);
                if (field is { Enterprise: 0, Element: E.ObservationDomainId })
                    domain = (uint)IpfixRecord.Unsigned(value);
                else if (field is { Enterprise: 0, Element: E.ObservationDomainName })
                    name = IpfixRecord.Text(value);
            }
            if (name is { Length: > 0 and <= 253 } && _names.Count < 4096)
                _names[domain] = name;
        }
    }

    /// <summary>A flow of a record; null where it has no addresses.</summary>
    public static FlowRecord? Flow(IpfixRecord record, string node)
    {
        IPAddress? source = null, destination = null;
        var (sourcePort, destinationPort, protocol, flags, status, direction) = ((ushort)0, (ushort)0, (byte)0, (byte)0, (byte)0, FlowDirection.Unknown);
        var (start, end, packets, bytes, flows) = (0L, 0L, 0UL, 0UL, 1UL);
        var (method, host, target, httpStatus) = ("", "", "", (ushort)0);
        var rest = record.Bytes;
        foreach (var field in record.Template.Fields)
        {
            var value = IpfixReader.TakeField(field, ref rest);
            // Numbers of other enterprises say other things.
            if (field.Enterprise != 0)
                continue;
            switch (field.Element)
            {
                case E.SourceIPv4Address when value.Length == 4:
                case E.SourceIPv6Address when value.Length == 16:
                    source = new IPAddress(value);
                    break;
                case E.DestinationIPv4Address when value.Length == 4:
                case E.DestinationIPv6Address when value.Length == 16:
                    destination = new IPAddress(value);
                    break;
                case E.SourceTransportPort:
                    sourcePort = (ushort)IpfixRecord.Unsigned(value);
                    break;
                case E.DestinationTransportPort:
                    destinationPort = (ushort)IpfixRecord.Unsigned(value);
                    break;
                case E.ProtocolIdentifier:
                    protocol = (byte)IpfixRecord.Unsigned(value);
                    break;
                case E.TcpControlBits:
                    flags = (byte)IpfixRecord.Unsigned(value);
                    break;
                case E.ForwardingStatus:
                    // Two bits in one byte, or four bytes whose first says it. Source: RFC 7270 section 4.12.
                    status = value.Length == 0 ? (byte)0 : value[^1];
                    break;
                case E.FlowDirection:
                    direction = IpfixRecord.Unsigned(value) switch { 0 => FlowDirection.Ingress, 1 => FlowDirection.Egress, _ => FlowDirection.Unknown };
                    break;
                case E.FlowStartMilliseconds:
                    start = Moment(value, 1);
                    break;
                case E.FlowEndMilliseconds:
                    end = Moment(value, 1);
                    break;
                case E.FlowStartSeconds:
                    start = Moment(value, 1000);
                    break;
                case E.FlowEndSeconds:
                    end = Moment(value, 1000);
                    break;
                case E.PacketDeltaCount:
                    packets = IpfixRecord.Unsigned(value);
                    break;
                case E.FlowDeltaCount:
                    flows = IpfixRecord.Unsigned(value);
                    break;
                case E.OctetDeltaCount:
                    bytes = IpfixRecord.Unsigned(value);
                    break;
                case E.HttpRequestMethod:
                    method = IpfixRecord.Text(value);
                    break;
                case E.HttpRequestHost:
                    host = IpfixRecord.Text(value);
                    break;
                case E.HttpRequestTarget:
                    target = IpfixRecord.Text(value);
                    break;
                case E.HttpStatusCode:
                    httpStatus = (ushort)IpfixRecord.Unsigned(value);
                    break;
            }
        }
        if (source is null || destination is null)
            return null;
        if (end == 0)
            end = record.Header.ExportTime * 1000L;
        return new FlowRecord(node, direction, source, destination, sourcePort, destinationPort, protocol, flags, status, start == 0 ? end : start, end, packets, bytes, method, target, host, httpStatus, flows);
    }

    // Up to the end of the year 9999, so that a wild number stays a date.
    private static long Moment(ReadOnlySpan<byte> value, ulong factor) => (long)(Math.Min(IpfixRecord.Unsigned(value), 253_402_300_799_999UL / factor) * factor);
}
