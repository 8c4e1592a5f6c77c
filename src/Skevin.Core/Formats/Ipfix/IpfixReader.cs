using System.Buffers.Binary;
using System.Text;

namespace Skevin.Core.Formats.Ipfix;

/// <summary>A record's bytes beside its template; only valid while the reader's callback runs. <see cref="IpfixReader.TakeField"/> takes them apart.</summary>
public readonly ref struct IpfixRecord(IpfixHeader header, IpfixTemplate template, ReadOnlySpan<byte> bytes)
{
    /// <summary>Header of its message.</summary>
    public IpfixHeader Header { get; } = header;

    /// <summary>Its template.</summary>
    public IpfixTemplate Template { get; } = template;

    /// <summary>Its bytes.</summary>
    public ReadOnlySpan<byte> Bytes { get; } = bytes;

    /// <summary>An unsigned number of up to 8 bytes; a shorter encoding than the element's own is allowed. Source: RFC 7011 section 6.2.</summary>
    public static ulong Unsigned(ReadOnlySpan<byte> value)
    {
        ulong number = 0;
        foreach (var next in value.Length > 8 ? value[^8..] : value)
            number = (number << 8) | next;
        return number;
    }

    /// <summary>A text.</summary>
    public static string Text(ReadOnlySpan<byte> value) => Encoding.UTF8.GetString(value).TrimEnd('\0');
}

/// <summary>
/// Reads IPFIX messages of one transport session: it remembers the templates the session has sent. Source: RFC 7011.
/// </summary>
public sealed class IpfixReader
{
    /// <summary>Length of a message's header.</summary>
    public const int HeaderLength = 16;

    private const int MostTemplates = 4096;
    private readonly Dictionary<(uint Domain, ushort Id), IpfixTemplate> _templates = [];

    /// <summary>Takes a record while it is read.</summary>
    public delegate void Take(IpfixRecord record);

    /// <summary>Templates known now.</summary>
    public IReadOnlyCollection<KeyValuePair<(uint Domain, ushort Id), IpfixTemplate>> Templates => _templates;

    /// <summary>Length of the message that begins a stream's bytes, or 0 where fewer than its header are there.</summary>
    /// <exception cref="FormatException">What is there does not begin a message.</exception>
    public static int LengthOf(ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length < 4)
            return 0;
        if (BinaryPrimitives.ReadUInt16BigEndian(bytes) != 10)
            throw new FormatException($"An IPFIX message begins with version 10, not {BinaryPrimitives.ReadUInt16BigEndian(bytes)}.");
        var length = BinaryPrimitives.ReadUInt16BigEndian(bytes[2..]);
        return length >= HeaderLength ? length : throw new FormatException($"An IPFIX message of {length} bytes is shorter than its header.");
    }

    /// <summary>Reads a header.</summary>
    /// <exception cref="FormatException">Not a whole message.</exception>
    public static IpfixHeader Header(ReadOnlySpan<byte> message)
    {
        var length = LengthOf(message);
        if (length == 0 || length > message.Length)
            throw new FormatException("The IPFIX message is cut short.");
        return new IpfixHeader(length, BinaryPrimitives.ReadUInt32BigEndian(message[4..]), BinaryPrimitives.ReadUInt32BigEndian(message[8..]), BinaryPrimitives.ReadUInt32BigEndian(message[12..]));
    }

    /// <summary>Reads one message.</summary>
    /// <param name="message">Its bytes; more may follow.</param>
    /// <param name="take">Gets every data record.</param>
    /// <exception cref="FormatException">The message is malformed; records before the fault were given.</exception>
    public IpfixMessage Read(ReadOnlySpan<byte> message, Take take)
    {
        var header = Header(message);
        var rest = message[HeaderLength..header.Length];
        var (records, unknown) = (0, 0);
        while (rest.Length > 0)
        {
            if (rest.Length < 4)
                throw new FormatException("Bytes after the last set are too few for a set.");
            var (id, length) = (BinaryPrimitives.ReadUInt16BigEndian(rest), BinaryPrimitives.ReadUInt16BigEndian(rest[2..]));
            if (length < 4 || length > rest.Length)
                throw new FormatException($"A set of {length} bytes does not fit into its message.");
            var body = rest[4..length];
            rest = rest[length..];
            switch (id)
            {
                case 2:
                    ReadTemplates(header.Domain, body, options: false);
                    break;
                case 3:
                    ReadTemplates(header.Domain, body, options: true);
                    break;
                case < 256:
                    // Reserved; a reader passes over them.
                    break;
                default:
                    if (_templates.TryGetValue((header.Domain, id), out var template))
                        records += ReadRecords(header, template, body, take);
                    else
                        unknown++;
                    break;
            }
        }
        return new IpfixMessage(header, records, unknown);
    }

    private void ReadTemplates(uint domain, ReadOnlySpan<byte> body, bool options)
    {
        // What is left below a template header's length is padding.
        while (body.Length >= 4)
        {
            var (id, count) = (BinaryPrimitives.ReadUInt16BigEndian(body), BinaryPrimitives.ReadUInt16BigEndian(body[2..]));
            body = body[4..];
            if (id == 0 && count == 0)
                return;
            if (count == 0)
            {
                // A withdrawal; of all templates where the id is the set's own. Source: RFC 7011 section 8.1.
                if (id is 2 or 3)
                    foreach (var key in _templates.Where(pair => pair.Key.Domain == domain && (pair.Value.ScopeFields > 0) == (id == 3)).Select(pair => pair.Key).ToArray())
                        _templates.Remove(key);
                else
                    _templates.Remove((domain, id));
                continue;
            }
            if (id < 256)
                throw new FormatException($"Template {id} is below 256.");
            var scopes = 0;
            if (options)
            {
                if (body.Length < 2)
                    throw new FormatException("An options template is cut short.");
                scopes = BinaryPrimitives.ReadUInt16BigEndian(body);
                body = body[2..];
                if (scopes == 0 || scopes > count)
                    throw new FormatException($"Options template {id} has {scopes} scope fields among {count}.");
            }
            var fields = new FieldSpecifier[count];
            for (var i = 0; i < count; i++)
            {
                if (body.Length < 4)
                    throw new FormatException($"Template {id} is cut short.");
                var (element, length) = (BinaryPrimitives.ReadUInt16BigEndian(body), BinaryPrimitives.ReadUInt16BigEndian(body[2..]));
                body = body[4..];
                var enterprise = 0u;
                if ((element & 0x8000) != 0)
                {
                    if (body.Length < 4)
                        throw new FormatException($"Template {id} is cut short.");
                    enterprise = BinaryPrimitives.ReadUInt32BigEndian(body);
                    body = body[4..];
                }
                fields[i] = new FieldSpecifier((ushort)(element & 0x7fff), length, enterprise);
            }
            var template = new IpfixTemplate(id, fields, scopes);
            if (template.LeastLength == 0)
                throw new FormatException($"Records of template {id} would take no bytes.");
            if (_templates.Count >= MostTemplates && !_templates.ContainsKey((domain, id)))
                throw new FormatException($"A session has more than {MostTemplates} templates.");
            _templates[(domain, id)] = template;
        }
    }

    private static int ReadRecords(IpfixHeader header, IpfixTemplate template, ReadOnlySpan<byte> body, Take take)
    {
        var count = 0;
        var least = template.LeastLength;
        // What is left below a record's least length is padding. Source: RFC 7011 section 3.3.1.
        while (body.Length >= least)
        {
            var rest = body;
            foreach (var field in template.Fields)
                TakeField(field, ref rest);
            take(new IpfixRecord(header, template, body[..(body.Length - rest.Length)]));
            count++;
            body = rest;
        }
        return count;
    }

    /// <summary>Takes the bytes of a field off the front of what is left of a record.</summary>
    /// <exception cref="FormatException">The record is cut short.</exception>
    public static ReadOnlySpan<byte> TakeField(FieldSpecifier field, ref ReadOnlySpan<byte> rest)
    {
        int length = field.Length;
        if (length == InformationElements.VariableLength)
        {
            if (rest.Length < 1)
                throw new FormatException("A field of variable length is cut short.");
            length = rest[0];
            rest = rest[1..];
            if (length == 255)
            {
                if (rest.Length < 2)
                    throw new FormatException("A field of variable length is cut short.");
                length = BinaryPrimitives.ReadUInt16BigEndian(rest);
                rest = rest[2..];
            }
        }
        if (length > rest.Length)
            throw new FormatException("A record is cut short.");
        var value = rest[..length];
        rest = rest[length..];
        return value;
    }
}
