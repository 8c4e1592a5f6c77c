using System.Net;
using CsCheck;
using Skevin.Core.Formats.Ipfix;
using Skevin.Core.Traffic;

namespace Skevin.Core.Tests.Formats;

public sealed class IpfixTests
{
    private static byte[] Hex(string text) => Convert.FromHexString(string.Concat(text.Where(char.IsAsciiHexDigit)));

    // Wraps sets in a message header: version 10, the length, then time, sequence and domain as in RFC 7011 appendix A.1.
    private static byte[] Message(string sets, uint sequence = 0)
    {
        var body = Hex(sets);
        return [0, 10, (byte)((body.Length + 16) >> 8), (byte)(body.Length + 16), .. Hex("5BE0FF00"), (byte)(sequence >> 24), (byte)(sequence >> 16), (byte)(sequence >> 8), (byte)sequence, .. Hex("0001E240"), .. body];
    }

    private static (List<List<(FieldSpecifier Field, byte[] Value)>> Records, IpfixMessage Last) Read(IpfixReader reader, params byte[][] messages)
    {
        var records = new List<List<(FieldSpecifier, byte[])>>();
        var last = default(IpfixMessage);
        foreach (var message in messages)
            last = reader.Read(message, record =>
            {
                var found = new List<(FieldSpecifier, byte[])>();
                var rest = record.Bytes;
                foreach (var field in record.Template.Fields)
                    found.Add((field, IpfixReader.TakeField(field, ref rest).ToArray()));
                records.Add(found);
            });
        return (records, last);
    }

    // RFC 7011 appendix A.2.1: a template set with template 256 of five IANA elements (from memory of the text, field by field).
    private const string TemplateSet = "0002 001C 0100 0005 0008 0004 000C 0004 000F 0004 0002 0004 0001 0004";

    // RFC 7011 appendix A.3: three records of template 256.
    private const string DataSet = """
        0100 0040
        C0000201 C0000202 C0000301 0000139A 0004D7F6
        C0000203 C0000204 C0000302 00002714 00F1B3DD
        C0000205 C0000206 C0000303 00004E20 00000F0A
        """;

    [Fact]
    public void The_specifications_template_set_and_data_set_are_read()
    {
        var (records, last) = Read(new IpfixReader(), Message(TemplateSet), Message(DataSet));
        last.Records.ShouldBe(3);
        last.Header.ExportTime.ShouldBe(0x5BE0FF00u);
        last.Header.Domain.ShouldBe(123456u);
        // Appendix A.3's table: 192.0.2.1 → 192.0.2.2 by 192.0.3.1, 5018 packets, 317430 bytes.
        new IPAddress(records[0][0].Value).ShouldBe(IPAddress.Parse("192.0.2.1"));
        new IPAddress(records[0][2].Value).ShouldBe(IPAddress.Parse("192.0.3.1"));
        IpfixRecord.Unsigned(records[0][3].Value).ShouldBe(5018ul);
        IpfixRecord.Unsigned(records[0][4].Value).ShouldBe(317430ul);
    }

    [Fact]
    public void Numbers_of_enterprises_stand_beside_ianas()
    {
        // RFC 7011 appendix A.2.2: template 257 with element 15 of enterprise X among IANA's (here enterprise 12345).
        var (records, _) = Read(new IpfixReader(), Message("0002 0020 0101 0005 0008 0004 000C 0004 800F 0004 00003039 0002 0004 0001 0004"), Message("0101 0018 C0000201 C0000202 00000007 00000001 00000064"));
        var field = records.ShouldHaveSingleItem()[2];
        (field.Field.Element, field.Field.Enterprise, IpfixRecord.Unsigned(field.Value)).ShouldBe(((ushort)15, 12345u, 7ul));
    }

    [Fact]
    public void The_specifications_options_template_and_its_records_are_read()
    {
        // RFC 7011 appendix A.4: options template 258, scope lineCardId (141), then exportedMessageTotalCount (41) and exportedFlowRecordTotalCount (42); A.4.3 its data.
        var (records, _) = Read(new IpfixReader(), Message("0003 0018 0102 0003 0001 008D 0004 0029 0002 002A 0002 0000"), Message("0102 0014 00000001 0159 2731 00000002 0273 D2E1"));
        records.Count.ShouldBe(2);
        IpfixRecord.Unsigned(records[0][1].Value).ShouldBe(345ul);
        IpfixRecord.Unsigned(records[0][2].Value).ShouldBe(10033ul);
        IpfixRecord.Unsigned(records[1][0].Value).ShouldBe(2ul);
    }

    [Fact]
    public void Variable_lengths_are_read_in_both_encodings()
    {
        // RFC 7011 appendix A.5: "5 Hello" with one byte of length, and a thousand bytes behind 255 and two bytes of length.
        var reader = new IpfixReader();
        var longText = string.Concat(Enumerable.Repeat("78", 1000));
        var (records, _) = Read(reader, Message("0002 000C 0103 0001 0052 FFFF"), Message("0103 000A 05 48656C6C6F"), Message("0103 03EF FF 03E8" + longText));
        IpfixRecord.Text(records[0][0].Value).ShouldBe("Hello");
        records[1][0].Value.Length.ShouldBe(1000);
    }

    [Fact]
    public void A_withdrawn_template_is_no_longer_known_and_padding_is_no_record()
    {
        var reader = new IpfixReader();
        // RFC 7011 section 3.3.1: padding shorter than a record; section 8.1: a withdrawal has a field count of 0.
        var (records, _) = Read(reader, Message("0002 000C 0104 0001 0001 0004"), Message("0104 000B 00000009 000000"));
        records.Count.ShouldBe(1);
        Read(reader, Message("0002 0008 0104 0000")).Last.WithoutTemplate.ShouldBe(0);
        Read(reader, Message("0104 0008 00000009")).Last.WithoutTemplate.ShouldBe(1);
        reader.Templates.ShouldBeEmpty();
    }

    private static readonly Gen<FlowRecord> Flows = Gen.Select(Gen.Bool, Gen.Byte.Array[16], Gen.UShort, Gen.Byte, Gen.Long[0, 4_000_000_000_000], Gen.ULong[0, uint.MaxValue], Gen.String[Gen.Char["ab/é "], 0, 300])
        .Select((v6, bytes, port, flags, time, count, text) => new FlowRecord(
            "north-1", (FlowDirection)(flags & 1), new IPAddress(v6 ? bytes : bytes[..4]), new IPAddress(v6 ? [.. bytes.Reverse()] : bytes[12..]), port, (ushort)(port ^ 1), (byte)(flags ^ 6), flags, ForwardingStatus.AclDeny,
            time, time + 5, count, count * 3, "GET", "/" + text, text, 503, Math.Max((ulong)1, port)));

    [Fact]
    public void What_is_written_is_read_again() => Flows.Array[0, 40].Sample(flows =>
    {
        var writer = new IpfixWriter();
        writer.Template(FlowIpfix.V4);
        writer.Template(FlowIpfix.V6);
        writer.Template(FlowIpfix.DomainName);
        writer.Record(FlowIpfix.DomainName);
        writer.Number(7, 4);
        writer.Variable("north-1");
        foreach (var flow in flows)
            FlowIpfix.Write(writer, flow);
        var read = new List<FlowRecord>();
        var message = new FlowIpfix.Session().Read(writer.Finish(1, 2, 7), read);
        message.Records.ShouldBe(flows.Length + 1);
        read.ShouldBe(flows);
    }, iter: 2000);

    [Fact]
    public void Damaged_messages_are_refused_not_worse() => Gen.Select(Flows.Array[1, 5], Gen.Int[0, 400], Gen.Byte).Sample((flows, at, with) =>
    {
        var writer = new IpfixWriter();
        writer.Template(FlowIpfix.V4);
        writer.Template(FlowIpfix.V6);
        foreach (var flow in flows)
            FlowIpfix.Write(writer, flow);
        var message = writer.Finish(1, 2, 3);
        message[at % message.Length] = with;
        try
        {
            new FlowIpfix.Session().Read(message, []);
        }
        catch (FormatException)
        {
            // Said so.
        }
    }, iter: 40_000);

    [Fact]
    public void Any_bytes_at_all_are_refused_not_worse() => Gen.Byte.Array[0, 120].Sample(bytes =>
    {
        byte[] message = [0, 10, 0, (byte)(bytes.Length + 16), .. new byte[12], .. bytes];
        try
        {
            new FlowIpfix.Session().Read(message, []);
        }
        catch (FormatException)
        {
            // Said so.
        }
    }, iter: 40_000);

    [Theory]
    [InlineData("0009 0010", "version 10")]
    [InlineData("000A 0008", "shorter than its header")]
    public void A_stream_that_begins_no_message_says_what_it_found(string bytes, string says) =>
        Should.Throw<FormatException>(() => IpfixReader.LengthOf(Hex(bytes))).Message.ShouldContain(says);
}
