using System.Diagnostics;
using System.Text.Json;
using Microsoft.Extensions.DependencyInjection;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Metrics.V1;
using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Server.Alarms;
using Skevin.Storage;

namespace Skevin.Bench;

/// <summary>Alert rules: judged live as the server does it, and replayed over history.</summary>
public static class AlarmsBench
{
    private const int Rules = 1000;
    private const int PodsEach = 5;
    private static readonly TimeSpan Slot = TimeSpan.FromSeconds(15);

    /// <summary>A thousand rules over five thousand series, judged by the server's own worker while the data come.</summary>
    public static async Task Run(BenchServer server, Report report)
    {
        await server.Push("v1/metrics", Enumerable.Range(0, 40).Select(back => Scrape(DateTimeOffset.UtcNow - Slot * back)));
        await using (var scope = server.Services.CreateAsyncScope())
        {
            var context = scope.ServiceProvider.GetRequiredService<SkevinContext>();
            context.Users.Add(new Person { Id = "bench", UserName = "bench@larkfield.example", Email = "bench@larkfield.example", Name = "B. Ench", Roles = Roles.Author });
            var cluster = context.Clusters.Single(row => row.Name == BenchServer.Cluster).Id;
            var json = new JsonSerializerOptions(JsonSerializerDefaults.Web) { Converters = { new System.Text.Json.Serialization.JsonStringEnumConverter(JsonNamingPolicy.CamelCase) } };
            for (var i = 0; i < Rules; i++)
                context.AlarmRules.Add(new AlarmRuleRow
                {
                    Id = Guid.CreateVersion7(), ClusterId = cluster, Name = $"rule {i}", OwnerId = "bench", InForce = true, CreatedAt = DateTimeOffset.UtcNow, JudgedTo = DateTimeOffset.UtcNow.ToUnixTimeMilliseconds(),
                    Document = JsonSerializer.Serialize(new RuleDocument($"rule {i}", $"ruled.load -> where shard = \"{i}\" -> max by pod", Above: "0.98", Hold: "1m", Wait: "5s", Every: "15s", Cluster: BenchServer.Cluster), json),
                });
            await context.SaveChangesAsync();
        }
        for (var clock = Stopwatch.StartNew(); clock.Elapsed < TimeSpan.FromSeconds(100);)
        {
            var next = Task.Delay(Slot);
            await server.Push("v1/metrics", [Scrape(DateTimeOffset.UtcNow)]);
            await next;
        }
        var verdicts = await server.Value<long>("select count(*) from rule_verdict");
        // The first round reads every rule's text; the others are what a server does all day.
        var rounds = await server.Value<double[]>($"select array_agg(took order by slot_end) from (select slot_end, extract(epoch from max(judged_at) - min(judged_at))::float8 as took from rule_verdict group by slot_end having count(*) = {Rules}) s");
        report.Add($"Seconds to judge {Rules:N0} rules over {Rules * PodsEach:N0} series, once every 15 s, median of {rounds.Length - 1} rounds", rounds.Skip(1).Order().ElementAt((rounds.Length - 1) / 2), " s", 1.5, atLeast: false, $"the first round {rounds[0]:0.00} s, {verdicts:N0} verdicts");
        await server.Run("update alarm_rule set in_force = false");
        var until = DateTimeOffset.UtcNow;
        var asked = await Report.Least(2, async () => { for (var i = 0; i < Rules; i++) await server.Ask($"ruled.load -> where shard = \"{i}\" -> max by pod every 15s", until - Slot, until); });
        report.Tell("The same enquiries, asked one after the other", $"{asked:0.00} s");
    }

    /// <summary>Rules replayed over the fourteen days <see cref="MetricsBench.RunLong"/> has made.</summary>
    public static async Task Replay(BenchServer server, Report report, DateTimeOffset end)
    {
        foreach (var (what, when) in new[] { ("the mean of 500 series", "long.container.memory.working_set -> mean every 1m"), ("20 series, each by itself", "long.container.memory.working_set -> where pod in (\"" + string.Join("\", \"", Enumerable.Range(0, 20).Select(pod => $"pod-{pod}")) + "\") -> max by pod every 1m") })
        {
            var request = new ReplayRequest(new RuleDocument("replayed", when, Above: "100MiB", Hold: "5m", Cluster: BenchServer.Cluster), end.AddDays(-14), end, BenchServer.Cluster);
            var replay = server.Services.GetRequiredService<ReplayRule>();
            var least = await Report.Least(3, async () =>
            {
                var outcome = await replay.Run(request, AccessScope.Everything, CancellationToken.None);
                if (outcome.Problem is { } problem)
                    throw new InvalidOperationException(problem.Detail);
            });
            report.Add($"Replay of 14 days by the minute, {what}, with the table of other bounds", least, " s", 2, atLeast: false);
        }
    }

    private static ExportMetricsServiceRequest Scrape(DateTimeOffset at)
    {
        var metrics = new ResourceMetrics { Resource = new() };
        var gauge = new Gauge();
        var time = (ulong)at.ToUnixTimeMilliseconds() * 1_000_000;
        var random = new Random((int)(at.ToUnixTimeSeconds() / 15));
        for (var i = 0; i < Rules * PodsEach; i++)
        {
            var point = new NumberDataPoint { TimeUnixNano = time, AsDouble = Math.Round(random.NextDouble(), 3) };
            point.Attributes.AddRange(Otlp.Attributes(("shard", (i / PodsEach).ToString()), ("k8s.pod.name", $"pod-{i}"), ("k8s.namespace.name", "auction")));
            gauge.DataPoints.Add(point);
        }
        metrics.ScopeMetrics.Add(new ScopeMetrics { Metrics = { new Metric { Name = "ruled.load", Unit = "1", Gauge = gauge } } });
        return new ExportMetricsServiceRequest { ResourceMetrics = { metrics } };
    }
}
