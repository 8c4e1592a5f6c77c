using System.Text.Json.Nodes;
using Skevin.StandIn;

namespace Skevin.Server.Tests.Signals;

/// <summary>The four signals of one service say the same, and what the model did.</summary>
public sealed class AgreementTests(RunningServer server) : IClassFixture<RunningServer>
{
    private const string North = "larkfield-north";
    private static readonly string[] Services = ["gatehouse", "bid-gateway", "ledger", "price-feed", "queue"];

    [Fact]
    public async Task Requests_by_minute_are_the_same_in_metrics_spans_lines_flows_and_in_the_model()
    {
        await using var standIn = await StandInHost.Start(new StandInOptions(Directory.CreateTempSubdirectory("skevin-stand-in").FullName, server.PracticePort, TimeSpan.FromMinutes(15)));
        var model = standIn.Cluster(North);
        await server.Keeper.Send("api/clusters", new { kubeconfig = await File.ReadAllTextAsync(standIn.KubeconfigPath(North)) });
        var collection = await ApiCalls.Until(() => server.Keeper.Json($"api/clusters/{North}/collection"), _ => true, 30, "the plan");
        await server.Keeper.Send($"api/clusters/{North}/collection/roll-out", new { plan = collection["plan"]!.DeepClone() });
        await ApiCalls.Until(() => server.Keeper.Json("api/practice/clock"), clock => !(bool)clock["catchingUp"]!, 300, "the present");
        // From here on agents and stand-in follow the clock: the last whole minutes before are all there soon.
        var to = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60).AddMinutes(-2);
        var from = to.AddMinutes(-8);
        async Task<double[]> Series(string text) => [.. (await server.Keeper.Ask(text, from, to, North))["series"]!.AsArray().Single()!["points"]!.AsArray().Select(point => (double)point![1]!)];
        await ApiCalls.Until(async () => await server.Keeper.Json($"api/arrivals?cluster={North}"), view => view["sources"]!.AsArray().Count(source => (string)source!["state"]! == "onTime") > 80, 90, "all signals on time");

        foreach (var service in Services)
        {
            var metrics = await Series($"http_server_requests -> where workload = \"{service}\" -> rise every 1m -> sum");
            metrics.Sum().ShouldBeGreaterThan(50);
            (await Series($"logs -> where workload = \"{service}\" and text exists and not text says \"started\" -> count every 1m")).ShouldBe(metrics, 1e-6, service + " lines");
            (await Series($"flows -> where destination = \"{service}\" and outcome = \"forwarded\" and destination.port != 9464 -> count every 1m")).ShouldBe(metrics, 1e-6, service + " flows");
            // A span has the time of its begin, the others that of its end.
            var spans = await server.Keeper.Send("api/ask", new { text = $"spans -> where service = \"{service}\" and kind = \"server\" -> show time, duration", from = from.AddMinutes(-1), to, cluster = North, page = new { size = 10_000 } });
            var ends = spans!["rows"]!.AsArray().Select(row => (double)row![0]! + (double)row[1]! * 1000).ToArray();
            Enumerable.Range(0, 8).Select(i => (double)ends.Count(end => end > from.AddMinutes(i).ToUnixTimeMilliseconds() && end <= from.AddMinutes(i + 1).ToUnixTimeMilliseconds() + 1)).Sum().ShouldBe(metrics.Sum(), 1, service + " spans");
            // By weight and over the whole stretch they are within 1 % whichever end is taken.
            (await Series($"spans -> where service = \"{service}\" and kind = \"server\" -> count every 1m")).Sum().ShouldBe(metrics.Sum(), Math.Max(2, metrics.Sum() * 0.01), service + " spans by their begin");
            // Calls to others: a histogram and client spans count the same ones.
            if (service is not "queue" and not "price-feed")
                (await Series($"http_client_request_duration_seconds -> where workload = \"{service}\" -> rise every 1m -> count")).Sum()
                    .ShouldBe((await Series($"spans -> where service = \"{service}\" and kind = \"client\" -> count every 1m")).Sum(), Math.Max(4, metrics.Sum() * 0.02), service + " calls");
        }

        // The model's own counters since it began: every request it answered is a line, no more and no fewer.
        var (at, answered) = model.Answered();
        foreach (var service in Services)
            await ApiCalls.Until(async () => (long)(await server.Keeper.Ask($"logs -> where workload = \"{service}\" -> where not text says \"started\"", at.AddHours(-2), at, North))["steps"]![2]!["left"]!,
                lines => lines == (long)answered[service], 30, $"{answered[service]} lines of {service}");
    }
}

internal static class Arrays
{
    public static void ShouldBe(this double[] seen, double[] expected, double within, string what)
    {
        seen.Length.ShouldBe(expected.Length, what);
        for (var i = 0; i < seen.Length; i++)
            seen[i].ShouldBe(expected[i], within, $"{what}, minute {i}: {string.Join(' ', seen)} against {string.Join(' ', expected)}");
    }
}
