using System.Text;
using CsCheck;
using Skevin.Core.Formats.Syslog;

namespace Skevin.Core.Tests.Formats;

/// <summary>Source: RFC 5424 section 6.5 and 6.3.5, the examples; RFC 6587 section 3.4 for frames.</summary>
public sealed class SyslogTests
{
    private static SyslogMessage Read(string text) => SyslogMessage.Read(Encoding.UTF8.GetBytes(text));

    private static long Time(string text, int micros = 0) => DateTimeOffset.Parse(text).ToUnixTimeMilliseconds() * 1_000_000 + micros * 1000;

    [Fact]
    public void Example_1_has_a_byte_order_mark_and_no_structured_data()
    {
        var read = Read("<34>1 2003-10-11T22:14:15.003Z mymachine.example.com su - ID47 - \uFEFF'su root' failed for lonvick on /dev/pts/8");
        (read.Facility, read.Severity, read.Time, read.Host, read.App, read.Process, read.Id).ShouldBe((4, 2, Time("2003-10-11T22:14:15.003Z"), "mymachine.example.com", "su", null, "ID47"));
        read.Text.ShouldBe("'su root' failed for lonvick on /dev/pts/8");
        read.Data.ShouldBeEmpty();
    }

    [Fact]
    public void Example_2_has_microseconds_an_offset_and_a_process()
    {
        var read = Read("<165>1 2003-08-24T05:14:15.000003-07:00 192.0.2.1 myproc 8710 - - %% It's time to make the do-nuts.");
        (read.Facility, read.Severity, read.Time, read.Host, read.Process, read.Id).ShouldBe((20, 5, Time("2003-08-24T12:14:15Z", 3), "192.0.2.1", "8710", null));
        read.Text.ShouldBe("%% It's time to make the do-nuts.");
    }

    [Fact]
    public void Example_3_has_structured_data_and_a_text()
    {
        var read = Read("<165>1 2003-10-11T22:14:15.003Z mymachine.example.com evntslog - ID47 [exampleSDID@32473 iut=\"3\" eventSource=\"Application\" eventID=\"1011\"] \uFEFFAn application event log entry...");
        read.Data.ShouldBe([new("exampleSDID@32473.iut", "3"), new("exampleSDID@32473.eventSource", "Application"), new("exampleSDID@32473.eventID", "1011")]);
        read.Text.ShouldBe("An application event log entry...");
    }

    [Fact]
    public void Example_4_has_structured_data_alone()
    {
        var read = Read("<165>1 2003-10-11T22:14:15.003Z mymachine.example.com evntslog - ID47 [exampleSDID@32473 iut=\"3\" eventSource=\"Application\" eventID=\"1011\"][examplePriority@32473 class=\"high\"]");
        read.Data[^1].ShouldBe(new("examplePriority@32473.class", "high"));
        read.Text.ShouldBe("");
    }

    [Fact]
    public void Escapes_in_values_are_taken_back_and_others_left_as_they_are() =>
        Read("""<13>1 - - - - - [a@1 q="say \"so\"" b="c:\\x\n" e="\]"] x""").Data.Select(pair => pair.Value).ShouldBe(["say \"so\"", "c:\\x\\n", "]"]);

    [Theory]
    [InlineData("34>1 - - - - - - x", "angle brackets")]
    [InlineData("<192>1 - - - - - - x", "0 to 191")]
    [InlineData("<034>1 - - - - - - x", "0 to 191")]
    [InlineData("<34>2 - - - - - - x", "version 1")]
    [InlineData("<34>1 2003-08-24T05:14:15.000000003-07:00 - - - - - x", "is not of the form")]
    [InlineData("<34>1 2003-08-24 - - - - - x", "is not of the form")]
    [InlineData("<34>1 - - - - - [a@1 b=\"x] y", "written \\]")]
    [InlineData("<34>1 - - - - - [a@1 b=\"x\" y", "name=")]
    [InlineData("<34>1 - - - - - x", "begins with [")]
    [InlineData("<34>1 - - -", "program")]
    public void What_is_no_such_message_is_refused_with_the_place(string text, string why) => Should.Throw<FormatException>(() => Read(text)).Message.ShouldContain(why);

    // The third-nanosecond example of section 6.2.3.1 is invalid: the RFC allows six digits.
    [Fact]
    public void Severities_become_those_of_the_log_data_model()
    {
        var record = SyslogLogs.Record(Read("<165>1 2003-10-11T22:14:15.003Z h a 7 ID47 [x@1 y=\"z\"] t"), 5);
        (record.SeverityNumber.ToString(), record.SeverityText, record.Body.StringValue, record.TimeUnixNano, record.ObservedTimeUnixNano)
            .ShouldBe((SyslogLogs.Record(Read("<5>1 - - - - - -"), 5).SeverityNumber.ToString(), "notice", "t", (ulong)Time("2003-10-11T22:14:15.003Z"), 5UL));
        record.Attributes.Select(pair => (pair.Key, pair.Value.StringValue)).ShouldBe([("syslog.facility", "20"), ("syslog.procid", "7"), ("syslog.msgid", "ID47"), ("syslog.x@1.y", "z")]);
        Enumerable.Range(0, 8).Select(severity => (int)SyslogLogs.Record(Read($"<{severity}>1 - - - - - -"), 5).SeverityNumber).ShouldBe([21, 19, 18, 17, 13, 10, 9, 5]);
        SyslogLogs.Record(Read("<5>1 - - - - - -"), 5).TimeUnixNano.ShouldBe(5UL);
        SyslogLogs.Resource(Read("<5>1 - - app - - -"), "192.0.2.9").ShouldBe([new("host.name", "192.0.2.9"), new("service.name", "app")]);
    }

    [Fact]
    public void A_stream_is_cut_the_same_however_it_comes_in_pieces()
    {
        var texts = Gen.String[Gen.Char.AlphaNumeric, 1, 40].Array[1, 8];
        Gen.Select(texts, Gen.Bool.Array[8], Gen.Int[1, 30]).Sample((made, counted, piece) =>
        {
            // With the length before it a message may hold line breaks.
            var messages = made.Select((text, i) => counted[i % 8] ? $"<1>{text}\n{text}" : "<1>" + text).ToArray();
            var stream = Encoding.UTF8.GetBytes(string.Concat(messages.Select((text, i) => counted[i % 8] ? $"{text.Length} {text}" : text + (i % 2 == 0 ? "\n" : "\r\n"))));
            var (framing, got) = (new SyslogFraming(), new List<string>());
            for (var at = 0; at < stream.Length; at += piece)
                got.AddRange(framing.Take(stream.AsSpan(at, Math.Min(piece, stream.Length - at))).Select(Encoding.UTF8.GetString));
            got.ShouldBe(messages);
        });
    }

    [Fact]
    public void A_stream_that_cannot_be_cut_is_given_up()
    {
        Should.Throw<FormatException>(() => new SyslogFraming().Take("999999 x"u8));
        Should.Throw<FormatException>(() => new SyslogFraming().Take("12x4 <1>"u8));
        Should.Throw<FormatException>(() => new SyslogFraming().Take(new byte[SyslogFraming.Longest + 100].Select(_ => (byte)'<').ToArray()));
    }
}
