namespace Skevin.Core.Formats.Ipfix;

/// <summary>One field of a template. Source: RFC 7011 section 3.2.</summary>
/// <param name="Element">Number of the information element.</param>
/// <param name="Length">Bytes, or 65535 for a field that says its own length.</param>
/// <param name="Enterprise">Whose number it is; 0 for IANA's.</param>
public readonly record struct FieldSpecifier(ushort Element, ushort Length, uint Enterprise = 0);

/// <summary>What the records of a set look like.</summary>
/// <param name="Id">From 256.</param>
/// <param name="Fields">In order; the scope fields of an options template first.</param>
/// <param name="ScopeFields">How many of them are scope fields; 0 for an ordinary template.</param>
public sealed record IpfixTemplate(ushort Id, IReadOnlyList<FieldSpecifier> Fields, int ScopeFields = 0)
{
    /// <summary>Least bytes a record takes.</summary>
    public int LeastLength => Fields.Sum(one => one.Length == InformationElements.VariableLength ? 1 : one.Length);
}

/// <summary>A message's header. Source: RFC 7011 section 3.1.</summary>
/// <param name="ExportTime">Seconds since the epoch.</param>
/// <param name="Sequence">Data records sent before this message in this domain, modulo 2^32.</param>
/// <param name="Domain">Observation domain.</param>
public readonly record struct IpfixHeader(int Length, uint ExportTime, uint Sequence, uint Domain);

/// <summary>A message that was read.</summary>
/// <param name="Header">Its header.</param>
/// <param name="Records">Data records in it, those of options included.</param>
/// <param name="WithoutTemplate">Sets that could not be read because their template has not come.</param>
public readonly record struct IpfixMessage(IpfixHeader Header, int Records, int WithoutTemplate);
