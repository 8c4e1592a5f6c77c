using System.Buffers.Binary;
using System.Net;
using System.Text;

namespace Skevin.Core.Formats.Ipfix;

/// <summary>Writes one IPFIX message. Source: RFC 7011 section 3.</summary>
public sealed class IpfixWriter
{
    /// <summary>Longest message: its length has 16 bits.</summary>
    public const int Longest = 65535;

    private readonly MemoryStream _body = new();
    private long _set = -1;
    private ushort _setId;

    /// <summary>Bytes so far, the header included.</summary>
    public int Length => IpfixReader.HeaderLength + (int)_body.Length;

    /// <summary>Adds a template.</summary>
    public void Template(IpfixTemplate template)
    {
        Set(template.ScopeFields > 0 ? (ushort)3 : (ushort)2);
        Number(template.Id, 2);
        Number((ulong)template.Fields.Count, 2);
        if (template.ScopeFields > 0)
            Number((ulong)template.ScopeFields, 2);
        foreach (var field in template.Fields)
        {
            Number((ulong)(field.Element | (field.Enterprise != 0 ? 0x8000 : 0)), 2);
            Number(field.Length, 2);
            if (field.Enterprise != 0)
                Number(field.Enterprise, 4);
        }
    }

    /// <summary>Begins a record of a template; its fields follow in order.</summary>
    public void Record(IpfixTemplate template) => Set(template.Id);

    /// <summary>A number of so many bytes.</summary>
    public void Number(ulong value, int bytes)
    {
        Span<byte> whole = stackalloc byte[8];
        BinaryPrimitives.WriteUInt64BigEndian(whole, value);
        _body.Write(whole[(8 - bytes)..]);
    }

    /// <summary>An address, 4 or 16 bytes.</summary>
    public void Address(IPAddress address)
    {
        Span<byte> bytes = stackalloc byte[16];
        address.TryWriteBytes(bytes, out var count);
        _body.Write(bytes[..count]);
    }

    /// <summary>A field of variable length. Source: RFC 7011 section 7.</summary>
    public void Variable(ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length < 255)
        {
            _body.WriteByte((byte)bytes.Length);
        }
        else
        {
            _body.WriteByte(255);
            Number((ulong)bytes.Length, 2);
        }
        _body.Write(bytes);
    }

    /// <summary>A text of variable length.</summary>
    public void Variable(string text) => Variable(Encoding.UTF8.GetBytes(text));

    /// <summary>The message.</summary>
    /// <exception cref="InvalidOperationException">It became longer than a message may be.</exception>
    public byte[] Finish(uint exportTime, uint sequence, uint domain)
    {
        CloseSet();
        if (Length > Longest)
            throw new InvalidOperationException("An IPFIX message holds at most 65,535 bytes.");
        var message = new byte[Length];
        BinaryPrimitives.WriteUInt16BigEndian(message, 10);
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(2), (ushort)Length);
        BinaryPrimitives.WriteUInt32BigEndian(message.AsSpan(4), exportTime);
        BinaryPrimitives.WriteUInt32BigEndian(message.AsSpan(8), sequence);
        BinaryPrimitives.WriteUInt32BigEndian(message.AsSpan(12), domain);
        _body.ToArray().CopyTo(message, IpfixReader.HeaderLength);
        return message;
    }

    private void Set(ushort id)
    {
        if (_set >= 0 && _setId == id)
            return;
        CloseSet();
        (_set, _setId) = (_body.Length, id);
        Number(id, 2);
        Number(0, 2);
    }

    private void CloseSet()
    {
        if (_set < 0)
            return;
        var length = _body.Length - _set;
        _body.Position = _set + 2;
        Number((ulong)length, 2);
        _body.Position = _body.Length;
        _set = -1;
    }
}
