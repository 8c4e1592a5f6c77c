using System.Buffers.Binary;
using System.Globalization;

namespace Skevin.Core.Traces;

/// <summary>Sixteen bytes that name a trace. Source: W3C Trace Context, "trace-id".</summary>
public readonly record struct TraceId(ulong High, ulong Low)
{
    /// <summary>Whether it is none: all zero is invalid.</summary>
    public bool IsEmpty => High == 0 && Low == 0;

    /// <summary>From the sixteen bytes of the wire; empty where they are not sixteen.</summary>
    public static TraceId Of(ReadOnlySpan<byte> bytes) => bytes.Length == 16
        ? new(BinaryPrimitives.ReadUInt64BigEndian(bytes), BinaryPrimitives.ReadUInt64BigEndian(bytes[8..]))
        : default;

    /// <summary>From 32 hexadecimal digits; empty where they are not.</summary>
    public static TraceId Parse(ReadOnlySpan<char> text) => text.Length == 32
        && ulong.TryParse(text[..16], NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var high)
        && ulong.TryParse(text[16..], NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var low) ? new(high, low) : default;

    /// <summary>The sixteen bytes.</summary>
    public byte[] Bytes()
    {
        var bytes = new byte[16];
        BinaryPrimitives.WriteUInt64BigEndian(bytes, High);
        BinaryPrimitives.WriteUInt64BigEndian(bytes.AsSpan(8), Low);
        return bytes;
    }

    /// <summary>32 hexadecimal digits.</summary>
    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{High:x16}{Low:x16}");

    /// <summary>A span's number from its eight bytes; 0 where they are not eight.</summary>
    public static ulong SpanOf(ReadOnlySpan<byte> bytes) => bytes.Length == 8 ? BinaryPrimitives.ReadUInt64BigEndian(bytes) : 0;

    /// <summary>A span's number from 16 hexadecimal digits; 0 where they are not.</summary>
    public static ulong ParseSpan(ReadOnlySpan<char> text) =>
        text.Length == 16 && ulong.TryParse(text, NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var span) ? span : 0;

    /// <summary>A span's eight bytes.</summary>
    public static byte[] SpanBytes(ulong span)
    {
        var bytes = new byte[8];
        BinaryPrimitives.WriteUInt64BigEndian(bytes, span);
        return bytes;
    }

    /// <summary>A span's number as 16 hexadecimal digits.</summary>
    public static string SpanText(ulong span) => span.ToString("x16", CultureInfo.InvariantCulture);
}

/// <summary>The header in which a request carries its trace. Source: W3C Trace Context level 1, section 3.2.</summary>
public static class TraceParent
{
    /// <summary>Writes version 00.</summary>
    public static string Write(TraceId trace, ulong span, bool sampled) => $"00-{trace}-{TraceId.SpanText(span)}-{(sampled ? "01" : "00")}";

    /// <summary>Reads a header; false where it is malformed or all zero.</summary>
    public static bool TryRead(ReadOnlySpan<char> header, out TraceId trace, out ulong span, out bool sampled)
    {
        (trace, span, sampled) = (default, 0, false);
        if (header.Length < 55 || header[2] != '-' || header[35] != '-' || header[52] != '-' || header[..2] is "ff" || (header[..2] is "00" && header.Length != 55)
            || (header.Length > 55 && header[55] != '-') || header[..55].IndexOfAnyInRange('A', 'F') >= 0
            || !byte.TryParse(header[..2], NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out _)
            || !byte.TryParse(header[53..55], NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var flags))
            return false;
        (trace, span, sampled) = (TraceId.Parse(header[3..35]), TraceId.ParseSpan(header[36..52]), (flags & 1) == 1);
        return !trace.IsEmpty && span != 0;
    }
}
