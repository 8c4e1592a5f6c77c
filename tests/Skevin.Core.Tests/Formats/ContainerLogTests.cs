using System.Text;
using CsCheck;
using Skevin.Core.Formats.ContainerLog;
using Skevin.Core.Logs;
using Skevin.Core.Traces;

namespace Skevin.Core.Tests.Formats;

public sealed class ContainerLogTests
{
    private static ContainerLogLine? Read(string line) => ContainerLogLine.Read(Encoding.UTF8.GetBytes(line));

    [Theory]
    // The forms of the container runtime interface's log format (from memory), with times of RFC 3339 section 5.6.
    [InlineData("2016-10-06T00:17:09.669794202Z stdout F log content 1", 1475713029669794202, false, false, "log content 1")]
    [InlineData("2016-10-06T00:17:10.113242941Z stderr P first part", 1475713030113242941, true, true, "first part")]
    [InlineData("2016-10-06T02:17:09.5+02:00 stdout F:x with offset and tag", 1475713029500000000, false, false, "with offset and tag")]
    [InlineData("2016-10-06T00:17:09Z stdout F ", 1475713029000000000, false, false, "")]
    [InlineData("2016-10-06T00:17:09Z stdout F", 1475713029000000000, false, false, "")]
    public void A_line_of_the_runtime_is_read(string line, long time, bool stderr, bool partial, string message)
    {
        var read = Read(line).ShouldNotBeNull();
        (read.Time, read.Stderr, read.Partial, read.Message).ShouldBe((time, stderr, partial, message));
    }

    [Theory]
    [InlineData("")]
    [InlineData("no time at all")]
    [InlineData("2016-10-06T00:17:09.669794202Z stdin F x")]
    [InlineData("2016-10-06T00:17:09.669794202Z stdout X x")]
    [InlineData("2016-13-06T00:17:09.669794202Z stdout F x")]
    [InlineData("2016-10-06T00:17:09.669794202 stdout F x")]
    public void What_is_no_line_of_the_runtime_is_none(string line) => Read(line).ShouldBeNull();

    [Fact]
    public void What_is_written_is_read_again() =>
        Gen.Select(Gen.Long[0, 4_000_000_000_000_000_000], Gen.Bool, Gen.Bool, Gen.String[Gen.Char["ab \"{}é:"], 0, 40]).Sample((time, stderr, partial, message) =>
            Read(ContainerLogLine.Write(time, stderr, partial, message).TrimEnd('\n')).ShouldBe(new ContainerLogLine(time, stderr, partial, message)));

    [Fact]
    public void Any_bytes_are_read_or_are_none() => Gen.Byte.Array[0, 80].Sample(bytes =>
    {
        ContainerLogLine.Read(bytes);
        ContainerLogLine.Read([.. "2016-10-06T00:17:09."u8, .. bytes]);
    }, iter: 30_000);

    [Fact]
    public void A_json_line_gives_text_level_trace_and_its_other_fields()
    {
        var read = LogMessage.Read("""{"level":"WARN","time":"x","msg":"slow write of lot A-1","took_ms":812,"http":{"status":200},"trace_id":"0af7651916cd43dd8448eb211c80319c","span_id":"b7ad6b7169203331","gone":null}""");
        (read.Level, read.Text).ShouldBe((LogLevel.Warn, "slow write of lot A-1"));
        read.Fields.ShouldBe([new("took_ms", "812"), new("http.status", "200")]);
        read.Trace.ToString().ShouldBe("0af7651916cd43dd8448eb211c80319c");
        TraceId.SpanText(read.Span).ShouldBe("b7ad6b7169203331");
    }

    [Theory]
    // W3C Trace Context level 1, section 3.2.2.5: the specification's example header.
    [InlineData("INFO POST /bids 200 traceparent=00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01 done")]
    [InlineData("{\"msg\":\"x\",\"traceparent\":\"00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01\"}")]
    [InlineData("INFO x trace=4bf92f3577b34da6a3ce929d0e0e4736 span=00f067aa0ba902b7")]
    public void A_line_belongs_to_the_trace_it_names(string line)
    {
        var read = LogMessage.Read(line);
        (read.Trace.ToString(), TraceId.SpanText(read.Span)).ShouldBe(("4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7"));
    }

    [Theory]
    [InlineData("ERROR POST /bids 503 trace=0af7651916cd43dd8448eb211c80319c", LogLevel.Error)]
    [InlineData("2026-11-24 06:41:12 [warn] slow", LogLevel.Warn)]
    [InlineData("info: started", LogLevel.Info)]
    [InlineData("ts=1 level=error msg=x", LogLevel.Error)]
    [InlineData("no error here", LogLevel.None)]
    [InlineData("{not json", LogLevel.None)]
    [InlineData("", LogLevel.None)]
    public void A_plain_line_gives_its_level_where_it_says_one(string line, LogLevel level)
    {
        var read = LogMessage.Read(line);
        (read.Level, read.Text).ShouldBe((level, line));
    }

    [Fact]
    public void Any_message_is_read() => Gen.String[Gen.Char["{}\":,[]ab1 \\é=\n"], 0, 60].Sample(text => LogMessage.Read(text).Text.ShouldNotBeNull(), iter: 30_000);

    [Theory]
    // OpenTelemetry logs data model, "SeverityNumber": ranges of four, DEBUG 5–8, ERROR 17–20.
    [InlineData(0, LogLevel.None)]
    [InlineData(4, LogLevel.Trace)]
    [InlineData(9, LogLevel.Info)]
    [InlineData(20, LogLevel.Error)]
    [InlineData(24, LogLevel.Fatal)]
    [InlineData(25, LogLevel.None)]
    public void Severity_numbers_fall_into_ranges_of_four(int number, LogLevel level) => LogLevels.OfNumber(number).ShouldBe(level);
}
