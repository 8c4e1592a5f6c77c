namespace Skevin.Core.Formats.Ipfix;

/// <summary>Numbers of the information elements used here. Source: IANA, "IP Flow Information Export (IPFIX) Entities"; RFC 7012.</summary>
public static class InformationElements
{
    public const ushort OctetDeltaCount = 1;
    public const ushort PacketDeltaCount = 2;
    public const ushort FlowDeltaCount = 3;
    public const ushort ProtocolIdentifier = 4;
    public const ushort TcpControlBits = 6;
    public const ushort SourceTransportPort = 7;
    public const ushort SourceIPv4Address = 8;
    public const ushort DestinationTransportPort = 11;
    public const ushort DestinationIPv4Address = 12;
    public const ushort SourceIPv6Address = 27;
    public const ushort DestinationIPv6Address = 28;
    public const ushort FlowDirection = 61;
    public const ushort ForwardingStatus = 89;
    public const ushort FlowEndReason = 136;
    public const ushort ObservationDomainId = 149;
    public const ushort FlowStartSeconds = 150;
    public const ushort FlowEndSeconds = 151;
    public const ushort FlowStartMilliseconds = 152;
    public const ushort FlowEndMilliseconds = 153;
    public const ushort ObservationDomainName = 300;
    public const ushort HttpStatusCode = 457;
    public const ushort HttpRequestMethod = 459;
    public const ushort HttpRequestHost = 460;
    public const ushort HttpRequestTarget = 461;

    /// <summary>Length of a field that says its own length. Source: RFC 7011 section 7.</summary>
    public const ushort VariableLength = 65535;
}
