using System.Net;
using System.Net.Sockets;

namespace Skevin.Core.Traffic;

/// <summary>Which way a flow passed the node that saw it. Source: IANA, flowDirection.</summary>
public enum FlowDirection : byte
{
    /// <summary>Into the node's network: seen where it arrives.</summary>
    Ingress = 0,

    /// <summary>Out of it: seen where it leaves.</summary>
    Egress = 1,

    /// <summary>The exporter did not say.</summary>
    Unknown = 255,
}

/// <summary>A flow as an exporter saw it.</summary>
/// <param name="Start">Epoch milliseconds.</param>
/// <param name="End">Epoch milliseconds.</param>
/// <param name="Status">Forwarding status, see <see cref="ForwardingStatus"/>; 0 where the exporter did not say.</param>
/// <param name="HttpStatus">Of a request the node could see; 0 where it could not.</param>
/// <param name="Flows">How many flows it stands for, where the exporter has put several into one record.</param>
public sealed record FlowRecord(
    string Node, FlowDirection Direction, IPAddress Source, IPAddress Destination, ushort SourcePort, ushort DestinationPort, byte Protocol, byte TcpFlags, byte Status,
    long Start, long End, ulong Packets, ulong Bytes, string Method, string Target, string Host, ushort HttpStatus, ulong Flows = 1);

/// <summary>What became of a flow. Source: IANA, forwardingStatus (RFC 7270 section 4.12).</summary>
public static class ForwardingStatus
{
    /// <summary>Forwarded.</summary>
    public const byte Forwarded = 64;

    /// <summary>Dropped, for a reason the exporter does not give.</summary>
    public const byte Dropped = 128;

    /// <summary>Dropped: an access list denies it.</summary>
    public const byte AclDeny = 129;

    /// <summary>forwarded, dropped, consumed, or unknown: the upper two bits.</summary>
    public static string Outcome(byte status) => (status >> 6) switch { 1 => "forwarded", 2 => "dropped", 3 => "consumed", _ => "unknown" };

    /// <summary>Whether it was dropped.</summary>
    public static bool IsDropped(byte status) => status >> 6 == 2;

    /// <summary>Why it was dropped or consumed; empty where there is nothing to say.</summary>
    public static string Reason(byte status) => status switch
    {
        128 => "no reason given",
        129 => "denied by policy",
        130 => "dropped by policy",
        131 => "no route",
        132 => "no neighbour answers",
        133 => "too large, must not be split",
        134 => "bad checksum",
        135 => "bad length",
        136 => "bad header length",
        137 => "too many hops",
        138 => "rate limited",
        139 => "queue full",
        140 => "source address not plausible",
        141 => "source address not allowed",
        142 => "hardware fault",
        > 128 and < 192 => $"reason {status}",
        _ => "",
    };
}

/// <summary>Words for protocols, families and flags.</summary>
public static class FlowWords
{
    /// <summary>Name of a protocol, or its number. Source: IANA, "Protocol Numbers".</summary>
    public static string Protocol(byte number) => number switch { 1 => "icmp", 6 => "tcp", 17 => "udp", 58 => "icmpv6", 132 => "sctp", _ => number.ToString(System.Globalization.CultureInfo.InvariantCulture) };

    /// <summary>ipv4 or ipv6.</summary>
    public static string Family(IPAddress address) => address.AddressFamily == AddressFamily.InterNetworkV6 ? "ipv6" : "ipv4";

    /// <summary>TCP flags as letters. Source: RFC 9293 section 3.1.</summary>
    public static string Flags(byte flags)
    {
        const string Letters = "FSRPAUEC";
        return string.Concat(Enumerable.Range(0, 8).Where(bit => (flags & (1 << bit)) != 0).Select(bit => Letters[bit]));
    }
}

/// <summary>Makes paths of requests countable.</summary>
public static class PathTemplate
{
    private const int LongestTemplate = 200;

    /// <summary>A path without its query; segments that look like a number or an id stand as <c>{id}</c>. Common practice, no source.</summary>
    public static string Of(string target)
    {
        var end = target.AsSpan().IndexOfAny('?', '#');
        var path = end < 0 ? target : target[..end];
        var template = string.Join('/', path.Split('/').Select(segment => IsId(segment) ? "{id}" : segment));
        return template.Length <= LongestTemplate ? template : template[..LongestTemplate];
    }

    private static bool IsId(string segment) =>
        segment.Length > 0 && segment.Any(char.IsAsciiDigit) && !(segment[0] == 'v' && segment.Length <= 3 && segment[1..].All(char.IsAsciiDigit));
}
