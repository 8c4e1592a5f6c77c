using Skevin.StandIn;

namespace Skevin.Server.Tests;

/// <summary>The demo's past is lived through at full speed: the agents read and push every pass of it.</summary>
public sealed class HistoryTests(RunningServer server) : IClassFixture<RunningServer>
{
    [Fact]
    public async Task Twenty_minutes_of_history_have_no_hole_and_is_known_to_be_back_filled()
    {
        await using var standIn = await StandInHost.Start(new StandInOptions(Directory.CreateTempSubdirectory("skevin-stand-in").FullName, server.PracticePort, TimeSpan.FromMinutes(20)));
        var begun = DateTimeOffset.UtcNow;
        await server.Keeper.Send("api/clusters", new { kubeconfig = await File.ReadAllTextAsync(standIn.KubeconfigPath("larkfield-north")) });
        var collection = await ApiCalls.Until(() => server.Keeper.Json("api/clusters/larkfield-north/collection"), _ => true, 30, "the plan");
        await server.Keeper.Send("api/clusters/larkfield-north/collection/roll-out", new { plan = collection["plan"]!.DeepClone() });
        await ApiCalls.Until(() => server.Keeper.Json("api/practice/clock"), clock => !(bool)clock["catchingUp"]!, 300, "the present");
        var answer = await server.Keeper.Ask("k8s.node.cpu.time -> where node = \"north-1\" -> rate every 15s", begun.AddMinutes(-18), begun.AddMinutes(-1), "larkfield-north");
        var points = answer["series"]![0]!["points"]!.AsArray();
        points.Count.ShouldBeGreaterThan(60);
        points.ShouldAllBe(point => point![1] != null);
        var timeline = await server.Keeper.Json($"api/timeline?cluster=larkfield-north&from={Uri.EscapeDataString(begun.AddMinutes(-18).ToString("O"))}&slotMinutes=1&slots=6");
        var (samples, late) = (timeline["samples"]!.AsArray().Select(count => (long)count!).ToArray(), timeline["backFilled"]!.AsArray().Select(count => (long)count!).ToArray());
        samples.ShouldAllBe(count => count > 1000);
        late.ShouldBe(samples);
    }
}

/// <summary>The coarser days before are lived through in the background.</summary>
public sealed class CoarseHistoryTests(RunningServer server) : IClassFixture<RunningServer>
{
    [Fact]
    public async Task Coarser_hours_before_agree_in_all_signals_and_go_on_after_a_stop()
    {
        const string cluster = "larkfield-north";
        var folder = Directory.CreateTempSubdirectory("skevin-stand-in").FullName;
        Task<StandInHost> Start() => StandInHost.Start(new StandInOptions(folder, server.PracticePort, TimeSpan.FromMinutes(3), TimeSpan.FromHours(4)));
        var standIn = await Start();
        try
        {
            await server.Keeper.Send("api/clusters", new { kubeconfig = await File.ReadAllTextAsync(standIn.KubeconfigPath(cluster)) });
            var collection = await ApiCalls.Until(() => server.Keeper.Json($"api/clusters/{cluster}/collection"), _ => true, 30, "the plan");
            await server.Keeper.Send($"api/clusters/{cluster}/collection/roll-out", new { plan = collection["plan"]!.DeepClone() });
            var past = (await ApiCalls.Until(() => server.Keeper.Json("api/practice/clock"), clock => clock["past"] is { } progress && At(progress, "now") > At(progress, "from").AddHours(1), 90, "one of the hours"))["past"]!;
            await standIn.DisposeAsync();
            standIn = await Start();
            await ApiCalls.Until(() => server.Keeper.Json("api/practice/clock"), clock => clock["past"] is not null, 30, "it to go on");
            await ApiCalls.Until(() => server.Keeper.Json("api/practice/clock"), clock => clock["past"] is null, 120, "the whole past");

            var from = DateTimeOffset.FromUnixTimeSeconds(At(past, "from").ToUnixTimeSeconds() / 3600 * 3600).AddHours(2);
            var to = from.AddHours(2);
            async Task<double> Total(string text) => (await server.Keeper.Ask(text, from, to, cluster))["series"]!.AsArray().Single()!["points"]!.AsArray().Sum(point => (double)point![1]!);
            foreach (var service in new[] { "bid-gateway", "ledger" })
            {
                var answered = await Total($"http_server_requests -> where workload = \"{service}\" -> rise every 1h -> sum");
                answered.ShouldBeGreaterThan(1300);
                (answered % 64).ShouldBe(0, 1e-6);
                // What is on its way at the window's ends may fall on either side: some requests of weight 64.
                (await Total($"spans -> where service = \"{service}\" and kind = \"server\" -> count every 1h")).ShouldBe(answered, 64 * 4, service + " spans");
                (await Total($"flows -> where destination = \"{service}\" and outcome = \"forwarded\" and destination.port != 9464 -> sum flows every 1h")).ShouldBe(answered, 64 * 4, service + " flows");
                (await Total($"logs -> where workload = \"{service}\" and not text says \"started\" -> count every 1h")).ShouldBe(answered / 64, 4, service + " lines");
            }
            // The same pods as now, so their names are those of the present.
            (await server.Keeper.Ask("container.memory.working_set -> where workload = \"ledger\" -> max by pod every 1h", from, to, cluster))["series"]!.AsArray().Select(series => (string)series!["labels"]!["pod"]!)
                .ShouldBe(standIn.Cluster(cluster).Pods.Where(pod => pod.OwnerName == "ledger").Select(pod => pod.Name), ignoreOrder: true);
        }
        finally
        {
            await standIn.DisposeAsync();
        }
    }

    private static DateTimeOffset At(System.Text.Json.Nodes.JsonNode progress, string name) => progress[name]!.GetValue<DateTimeOffset>();
}
