using System.Text;
using CsCheck;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Metrics.V1;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Formats;

public sealed class OtlpJsonTests
{
    // OpenTelemetry protocol repository, examples/metrics.json, shortened (from memory).
    private const string Example = """
        {"resourceMetrics":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"my.service"}}]},
        "scopeMetrics":[{"scope":{"name":"my.library","version":"1.0.0","attributes":[{"key":"my.scope.attribute","value":{"stringValue":"some scope attribute"}}]},
        "metrics":[{"name":"my.counter","unit":"1","description":"I am a Counter","sum":{"aggregationTemporality":2,"isMonotonic":true,
        "dataPoints":[{"asDouble":5,"startTimeUnixNano":"1544712660300000000","timeUnixNano":"1544712660300000000","attributes":[{"key":"my.counter.attr","value":{"stringValue":"some value"}}]}]}},
        {"name":"my.gauge","unit":"1","description":"I am a Gauge","gauge":{"dataPoints":[{"asDouble":10,"timeUnixNano":"1544712660300000000","attributes":[{"key":"my.gauge.attr","value":{"stringValue":"some value"}}]}]}},
        {"name":"my.histogram","unit":"1","description":"I am a Histogram","histogram":{"aggregationTemporality":1,"dataPoints":[{"startTimeUnixNano":"1544712660300000000","timeUnixNano":"1544712660300000000","count":"2","sum":2,"bucketCounts":["1","1"],"explicitBounds":[1],"min":0,"max":2,"attributes":[]}]}}]}]}]}
        """;

    private static readonly long Time = 1544712660300;

    private static ExportMetricsServiceRequest Read(string json) => OtlpJson.Read<ExportMetricsServiceRequest>(Encoding.UTF8.GetBytes(json));

    [Fact]
    public void The_protocols_example_is_read()
    {
        var metrics = Read(Example).ResourceMetrics[0].ScopeMetrics[0].Metrics;
        metrics.Select(metric => metric.Name).ShouldBe(["my.counter", "my.gauge", "my.histogram"]);
        metrics[0].Sum.IsMonotonic.ShouldBeTrue();
        metrics[0].Sum.AggregationTemporality.ShouldBe(AggregationTemporality.Cumulative);
        metrics[2].Histogram.DataPoints[0].BucketCounts.ShouldBe([1UL, 1UL]);
        metrics[2].Histogram.DataPoints[0].Max.ShouldBe(2);
    }

    [Fact]
    public void Json_and_protobuf_of_the_same_request_are_the_same()
    {
        var request = Read(Example);
        ExportMetricsServiceRequest.Parser.ParseFrom(request.ToByteArray()).ShouldBe(request);
    }

    [Fact]
    public void Ids_are_hex_and_unknown_fields_are_ignored()
    {
        // OpenTelemetry protocol specification, "JSON Protobuf Encoding": traceId and spanId are hex, unknown fields are ignored.
        var request = Read("""
            {"resourceMetrics":[{"scopeMetrics":[{"metrics":[{"name":"a","gauge":{"dataPoints":[{"asInt":"7","somethingNew":{"x":1},"timeUnixNano":"1","exemplars":[{"traceId":"5b8efff798038103d269b633813fc60c","spanId":"eee19b7ec3c1b174","asDouble":1}]}]}}]}]}]}
            """);
        var point = request.ResourceMetrics[0].ScopeMetrics[0].Metrics[0].Gauge.DataPoints[0];
        point.AsInt.ShouldBe(7);
        Convert.ToHexString(point.Exemplars[0].TraceId.Span).ShouldBe("5B8EFFF798038103D269B633813FC60C");
    }

    [Theory]
    [InlineData("{", "not JSON")]
    [InlineData("[]", "$ must be an object")]
    [InlineData("{\"resourceMetrics\":{}}", "$.resourceMetrics must be an array")]
    [InlineData("{\"resourceMetrics\":[{\"scopeMetrics\":[{\"metrics\":[{\"name\":7}]}]}]}", "$.resourceMetrics[0].scopeMetrics[0].metrics[0].name")]
    public void A_mistake_is_named_with_its_place(string json, string says) =>
        Should.Throw<FormatException>(() => Read(json)).Message.ShouldContain(says);

    [Fact]
    public void Nothing_but_a_format_error_comes_out() =>
        Gen.Select(Gen.Int[0, Example.Length - 1], Gen.Int[1, 12], Gen.String[Gen.Char["{}[]\":,0a-"], 0, 4]).Sample((at, length, put) =>
        {
            var broken = Example[..at] + put + Example[Math.Min(Example.Length, at + length)..];
            try
            {
                Read(broken);
            }
            catch (FormatException)
            {
                // What a sender can be told.
            }
        }, iter: 20_000);

    [Fact]
    public void Samples_get_the_tokens_cluster_and_what_cannot_be_kept_is_counted()
    {
        var read = OtlpMetrics.Read(Read(Example), "larkfield-north", new StampRange(Time - 1, Time + 1));
        read.Refused.Count.ShouldBe(0);
        var (key, sample) = (read.Samples[0].Key, read.Samples[0].Points.ShouldHaveSingleItem());
        read.Samples.Count.ShouldBe(2);
        (key.Metric, key.Kind, key.Unit).ShouldBe(("my.counter", SeriesKind.Counter, "1"));
        key.Labels["k8s.cluster.name"].ShouldBe("larkfield-north");
        key.Labels["service.name"].ShouldBe("my.service");
        (sample.Time, sample.Value, sample.Start).ShouldBe((Time, 5, Time));
        read.Histograms.ShouldHaveSingleItem();
    }

    [Fact]
    public void Stamps_outside_the_retention_and_sums_of_no_temporality_are_refused_with_the_reason()
    {
        OtlpMetrics.Read(Read(Example), "c", new StampRange(Time + 1, Time + 2)).Refused.Why.ShouldContain("older than the retention");
        OtlpMetrics.Read(Read(Example), "c", new StampRange(Time - 2, Time - 1)).Refused.Why.ShouldContain("ahead");
        OtlpMetrics.Read(Read(Example.Replace("\"aggregationTemporality\":2", "\"aggregationTemporality\":0")), "c", new StampRange(Time - 1, Time + 1)).Refused.Why.ShouldContain("cumulative or delta");
        OtlpMetrics.Read(Read(Example.Replace("\"aggregationTemporality\":2", "\"aggregationTemporality\":1")), "c", new StampRange(Time - 1, Time + 1)).Samples[0].Key.Kind.ShouldBe(SeriesKind.Counter);
    }
}
