using OpenTelemetry.Proto.Collector.Logs.V1;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Logs;

namespace Skevin.Core.Tests.Formats;

public sealed class OtlpLogsTests
{
    private static ReadLogs Read(string records) => OtlpLogs.Read(OtlpJson.Read<ExportLogsServiceRequest>(System.Text.Encoding.UTF8.GetBytes("""
        {"resourceLogs":[{"resource":{"attributes":[{"key":"k8s.node.name","value":{"stringValue":"north-1"}},{"key":"k8s.cluster.name","value":{"stringValue":"claimed"}}]},
        "scopeLogs":[{"scope":{"attributes":[{"key":"skevin.source","value":{"stringValue":"auction/ledger-1/ledger"}}]},"logRecords":[RECORDS]}]}]}
        """.Replace("RECORDS", records))), "larkfield-north", new StampRange(0, 2_000_000_000_000), 1_795_000_000_000);

    [Fact]
    public void The_specifications_example_becomes_a_line()
    {
        // opentelemetry-proto, examples/logs.json (from memory): severity 10 is INFO2.
        var line = Read("""
            {"timeUnixNano":"1544712660300000000","observedTimeUnixNano":"1544712660300000000","severityNumber":10,"severityText":"Information","traceId":"5B8EFFF798038103D269B633813FC60C","spanId":"EEE19B7EC3C1B174",
            "body":{"stringValue":"Example log record"},"attributes":[{"key":"string.attribute","value":{"stringValue":"some string"}},{"key":"int.attribute","value":{"intValue":"10"}},{"key":"array.attribute","value":{"arrayValue":{"values":[{"stringValue":"many"},{"stringValue":"values"}]}}}]}
            """).Lines.ShouldHaveSingleItem();
        (line.Time, line.Level, line.Text, line.Trace.ToString()).ShouldBe((1544712660300000000, LogLevel.Info, "Example log record", "5b8efff798038103d269b633813fc60c"));
        (line["int.attribute"].AsNumber, line["array.attribute"].Text).ShouldBe((10, "[many,values]"));
        // The token's cluster counts, whatever the sender says.
        line["cluster"].Text.ShouldBe("larkfield-north");
    }

    [Theory]
    // OpenTelemetry logs data model: without a time of its own, when it was seen; here, without that too, when it came.
    [InlineData("""{"observedTimeUnixNano":"1700000000000000000","body":{"stringValue":"x"}}""", 1_700_000_000_000)]
    [InlineData("""{"body":{"stringValue":"x"}}""", 1_795_000_000_000)]
    public void A_line_without_a_time_has_the_time_it_was_seen(string record, long milliseconds) => Read(record).Lines.ShouldHaveSingleItem().Milliseconds.ShouldBe(milliseconds);

    [Theory]
    [InlineData("\"severityText\":\"WARNING\"", LogLevel.Warn)]
    [InlineData("\"severityNumber\":21", LogLevel.Fatal)]
    [InlineData("\"severityText\":\"odd\"", LogLevel.None)]
    public void A_level_is_read_from_the_number_or_else_from_the_word(string severity, LogLevel level) => Read("{" + severity + "}").Lines.ShouldHaveSingleItem().Level.ShouldBe(level);

    [Fact]
    public void Events_status_records_and_what_is_too_new_are_told_apart_and_counted_by_source()
    {
        var read = Read("""
            {"timeUnixNano":"1700000000000000000","eventName":"k8s.event","body":{"stringValue":"Back-off"}},
            {"timeUnixNano":"1700000000000000000","eventName":"skevin.source.status","attributes":[{"key":"skevin.source","value":{"stringValue":"node/north-1"}},{"key":"skevin.signal","value":{"stringValue":"flows"}},{"key":"skevin.read","value":{"intValue":"7"}}]},
            {"timeUnixNano":"1700000000000000000","eventName":"browser.click","body":{"stringValue":"x"}},
            {"timeUnixNano":"2700000000000000000","body":{"stringValue":"from tomorrow"}}
            """);
        read.Events.ShouldHaveSingleItem().Text.ShouldBe("Back-off");
        read.Reports.ShouldHaveSingleItem().ShouldSatisfyAllConditions(report => report.Signal.ShouldBe("flows"), report => report.Agent.ShouldBe("north-1"), report => report.Read.ShouldBe(7));
        read.Lines.ShouldHaveSingleItem()["event.name"].Text.ShouldBe("browser.click");
        read.Refused.Why.ShouldBe("A stamp lies more than 10 min ahead of the server's clock. (1)");
        read.Sources.ShouldHaveSingleItem().ShouldSatisfyAllConditions(source => source.Source.ShouldBe("auction/ledger-1/ledger"), source => source.Minutes.Values.Sum().ShouldBe(2));
    }
}
