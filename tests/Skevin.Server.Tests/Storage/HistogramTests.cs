using System.Net;
using Microsoft.Extensions.Time.Testing;
using Npgsql;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Metrics.V1;
using OpenTelemetry.Proto.Resource.V1;
using Skevin.Storage.Blocks;

namespace Skevin.Server.Tests.Storage;

/// <summary>Histograms from OTLP to the answer, from the head and from the store.</summary>
public sealed class HistogramTests(RunningServer server) : IClassFixture<RunningServer>
{
    private static ExportMetricsServiceRequest Request(Metric metric, string pod)
    {
        var owner = new ResourceMetrics { Resource = new Resource() };
        owner.Resource.Attributes.AddRange(OtlpBuilder.Attributes(("k8s.pod.name", pod), ("service.name", "ledger")));
        owner.ScopeMetrics.Add(new ScopeMetrics { Metrics = { metric } });
        return new ExportMetricsServiceRequest { ResourceMetrics = { owner } };
    }

    private static ulong Nano(DateTimeOffset time) => (ulong)time.ToUnixTimeMilliseconds() * 1_000_000;

    // Each scrape adds three up to 0.1 s and one up to 0.4 s.
    private static Metric Explicit(DateTimeOffset begin, int scrapes, AggregationTemporality temporality = AggregationTemporality.Cumulative)
    {
        var metric = new Metric { Name = "http.server.request.duration", Unit = "s", Histogram = new() { AggregationTemporality = temporality } };
        for (var i = 1; i <= scrapes; i++)
        {
            var times = (ulong)(temporality == AggregationTemporality.Delta ? 1 : i);
            metric.Histogram.DataPoints.Add(new HistogramDataPoint
            {
                TimeUnixNano = Nano(begin.AddSeconds(15 * i)), StartTimeUnixNano = Nano(temporality == AggregationTemporality.Delta ? begin.AddSeconds(15 * (i - 1)) : begin),
                Count = 4 * times, Sum = 0.5 * times, ExplicitBounds = { 0.1, 0.2, 0.4 }, BucketCounts = { 3 * times, 0, times, 0 },
            });
        }
        return metric;
    }

    private static Metric Exponential(DateTimeOffset begin, int scrapes)
    {
        var metric = new Metric { Name = "queue.wait", Unit = "s", ExponentialHistogram = new() { AggregationTemporality = AggregationTemporality.Cumulative } };
        for (var i = 1; i <= scrapes; i++)
            metric.ExponentialHistogram.DataPoints.Add(new ExponentialHistogramDataPoint
            {
                // From (1, 2] and (2, 4]; half-way the sender makes its buckets coarser: (1, 4].
                TimeUnixNano = Nano(begin.AddSeconds(15 * i)), StartTimeUnixNano = Nano(begin), Count = (ulong)(2 * i), Sum = 5 * i, Scale = i <= 20 ? 0 : -1,
                Positive = i <= 20 ? new() { Offset = 0, BucketCounts = { (ulong)i, (ulong)i } } : new() { Offset = 0, BucketCounts = { (ulong)(2 * i) } },
            });
        return metric;
    }

    [Theory]
    [InlineData(-2, "head", AggregationTemporality.Cumulative)]
    [InlineData(-2, "delta", AggregationTemporality.Delta)]
    [InlineData(-50, "store", AggregationTemporality.Cumulative)]
    public async Task What_was_sent_is_what_is_told(int hours, string name, AggregationTemporality temporality)
    {
        var (_, token) = await server.ClusterWithToken("histogram-" + name);
        var begin = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.AddHours(hours).ToUnixTimeSeconds() / 3600 * 3600);
        foreach (var pod in new[] { "p-1", "p-2" })
            (await server.Anonymous().Push(token, Request(Explicit(begin, 40, temporality), pod))).StatusCode.ShouldBe(HttpStatusCode.OK);
        (await server.Anonymous().Push(token, Request(Exponential(begin, 40), "p-1"))).StatusCode.ShouldBe(HttpStatusCode.OK);

        async Task Told(string when)
        {
            async Task<double[]> Values(string text) => [.. (await server.Keeper.Ask(text, begin, begin.AddMinutes(10), "histogram-" + name))["series"]!.AsArray().Single()!["points"]!.AsArray().Select(point => (double)point![1]!)];
            (await Values("http.server.request.duration -> rise every 1m -> count")).ShouldAllBe(value => Math.Abs(value - 32) < 1e-9, when);
            // Of 32 in a minute 24 are in the first bucket: the 16th lies at two thirds of it.
            (await Values("http.server.request.duration -> rise every 1m -> p50 by service")).ShouldAllBe(value => Math.Abs(value - 0.1 * 16 / 24) < 1e-9, when);
            (await Values("http.server.request.duration -> rise every 1m -> p95")).ShouldAllBe(value => Math.Abs(value - (0.2 + 0.2 * (30.4 - 24) / 8)) < 1e-9, when);
            (await Values("queue.wait -> rise every 1m -> mean")).ShouldAllBe(value => Math.Abs(value - 2.5) < 1e-9, when);
            var medians = await Values("queue.wait -> rise every 1m -> p50");
            medians[..4].ShouldAllBe(value => Math.Abs(value - 2) < 1e-9, when);
            medians[6..].ShouldAllBe(value => Math.Abs(value - 2) < 1e-9, "half of (1, 4] along its powers is 2");
        }
        await Told("as it came");
        await using var database = NpgsqlDataSource.Create(server.Database);
        (await new BlockMerging(database, new FakeTimeProvider(DateTimeOffset.UtcNow.AddHours(2))).Run(CancellationToken.None)).ShouldBeGreaterThan(1);
        await Told("merged");
    }

    [Fact]
    public async Task The_first_one_stays_and_what_cannot_be_kept_is_said()
    {
        var (_, token) = await server.ClusterWithToken("histogram-refused");
        var begin = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60 - 600);
        (await server.Anonymous().Push(token, Request(Explicit(begin, 3), "p-1"))).StatusCode.ShouldBe(HttpStatusCode.OK);
        (await (await server.Anonymous().Push(token, Request(Explicit(begin, 3), "p-1"))).Partial()).ShouldBeNull("the same again is no conflict");
        var other = Explicit(begin, 1);
        other.Histogram.DataPoints[0].Sum = 7;
        (await (await server.Anonymous().Push(token, Request(other, "p-1"))).Partial())!.ErrorMessage.ShouldContain("two senders");
        var wrong = Explicit(begin, 3);
        wrong.Histogram.DataPoints[0].BucketCounts.RemoveAt(0);
        wrong.Histogram.DataPoints[1].ExplicitBounds[1] = 0.05;
        var partial = (await (await server.Anonymous().Push(token, Request(wrong, "p-2"))).Partial())!;
        partial.RejectedDataPoints.ShouldBe(2);
        partial.ErrorMessage.ShouldContain("one bucket more");
        partial.ErrorMessage.ShouldContain("do not rise");
        var noStart = Explicit(begin, 1, AggregationTemporality.Delta);
        noStart.Histogram.DataPoints[0].StartTimeUnixNano = 0;
        (await (await server.Anonymous().Push(token, Request(noStart, "p-3"))).Partial())!.ErrorMessage.ShouldContain("start time");
    }
}
