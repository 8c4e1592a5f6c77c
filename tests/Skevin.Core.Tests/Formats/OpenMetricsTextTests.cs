using CsCheck;
using Skevin.Core.Formats.OpenMetrics;

namespace Skevin.Core.Tests.Formats;

public sealed class OpenMetricsTextTests
{
    // OpenMetrics specification 1.0, "Overall structure", example exposition, one gauge left out (from memory).
    private const string SpecificationExample = """
        # TYPE acme_http_router_request_seconds summary
        # UNIT acme_http_router_request_seconds seconds
        # HELP acme_http_router_request_seconds Latency though all of ACME's HTTP request router.
        acme_http_router_request_seconds_sum{path="/api/v1",method="GET"} 9036.32
        acme_http_router_request_seconds_count{path="/api/v1",method="GET"} 807283.0
        acme_http_router_request_seconds_created{path="/api/v1",method="GET"} 1605281325.0
        acme_http_router_request_seconds_sum{path="/api/v2",method="POST"} 479.3
        acme_http_router_request_seconds_count{path="/api/v2",method="POST"} 34.0
        acme_http_router_request_seconds_created{path="/api/v2",method="POST"} 1605281325.0
        # TYPE process_cpu_seconds counter
        # UNIT process_cpu_seconds seconds
        # HELP process_cpu_seconds Total user and system CPU time spent in seconds.
        process_cpu_seconds_total 4.20072246e+06
        # EOF

        """;

    [Fact]
    public void The_specifications_example_is_read_whole()
    {
        var reading = OpenMetricsText.Read(SpecificationExample);
        reading.Error.ShouldBeNull();
        reading.Families.Select(family => (family.Name, family.Type, family.Unit, family.Samples.Count)).ShouldBe(
        [
            ("acme_http_router_request_seconds", FamilyType.Summary, "seconds", 6),
            ("process_cpu_seconds", FamilyType.Counter, "seconds", 1),
        ]);
        var sample = reading.Families[1].Samples[0];
        (sample.Suffix, sample.Value).ShouldBe(("_total", 4200722.46));
        reading.Families[0].Samples[4].Labels.ShouldBe([new("path", "/api/v2"), new("method", "POST")]);
    }

    [Fact]
    public void Exemplars_of_the_specifications_histogram_are_read()
    {
        // OpenMetrics specification 1.0, "Exemplars", example (from memory).
        var reading = OpenMetricsText.Read("""
            # TYPE foo histogram
            foo_bucket{le="0.01"} 0
            foo_bucket{le="0.1"} 8 # {} 0.054
            foo_bucket{le="1"} 11 # {trace_id="KOO5S4vxi0o"} 0.67
            foo_bucket{le="10"} 17 # {trace_id="oHg5SJYRHA0"} 9.8 1520879607.789
            foo_bucket{le="+Inf"} 17
            foo_count 17
            foo_sum 324789.3
            foo_created 1520430000.123
            # EOF

            """);
        reading.Error.ShouldBeNull();
        var samples = reading.Families.ShouldHaveSingleItem().Samples;
        samples.Count.ShouldBe(8);
        samples[0].Exemplar.ShouldBeNull();
        samples[1].Exemplar!.Value.ShouldBe(0.054);
        samples[3].Exemplar!.Labels.ShouldBe([new("trace_id", "oHg5SJYRHA0")]);
        samples[3].Exemplar!.Timestamp.ShouldBe(1520879607.789);
    }

    [Fact]
    public void Escapes_in_the_values_of_labels_are_undone()
    {
        // OpenMetrics specification 1.0, "Escaping": \n, \" and \\.
        var reading = OpenMetricsText.Read("a{b=\"one\\ntwo \\\"three\\\" \\\\four\"} 1\n# EOF\n");
        reading.Error.ShouldBeNull();
        reading.Families[0].Samples[0].Labels[0].Value.ShouldBe("one\ntwo \"three\" \\four");
    }

    [Fact]
    public void An_exposition_without_its_end_says_so_and_still_gives_what_was_read()
    {
        var reading = OpenMetricsText.Read("# TYPE a gauge\na 1\n");
        reading.Families.ShouldHaveSingleItem().Samples[0].Value.ShouldBe(1);
        reading.Error.ShouldNotBeNull().ShouldContain("# EOF");
    }

    [Fact]
    public void The_older_form_needs_no_end_and_has_milliseconds()
    {
        // Common practice of the older plain text exposition, no source.
        var reading = OpenMetricsText.Read("# TYPE a_total counter\na_total{b=\"c\"} 3 1700000000500\n", strict: false);
        reading.Error.ShouldBeNull();
        reading.Families[0].Samples[0].Timestamp.ShouldBe(1700000000.5);
    }

    [Theory]
    [InlineData("a{b=\"c\" 1\n# EOF\n", "line 1")]
    [InlineData("a 1\nb{x=\"1\",x=\"2\"} 1\n# EOF\n", "line 2")]
    [InlineData("a one\n# EOF\n", "not a number")]
    [InlineData("# TYPE a teapot\n# EOF\n", "unknown type")]
    [InlineData("# EOF\na 1\n", "after # EOF")]
    public void A_malformed_line_is_named(string text, string says) =>
        OpenMetricsText.Read(text).Error.ShouldNotBeNull().ShouldContain(says);

    [Fact]
    public void No_text_makes_it_throw() =>
        Gen.Select(Gen.String[Gen.Char["a_b{}=\",\\ #1.eE+\nTYPEOF"], 0, 60], Gen.Bool).Sample((text, strict) =>
        {
            OpenMetricsText.Read(text, strict);
        }, iter: 20_000);
}
