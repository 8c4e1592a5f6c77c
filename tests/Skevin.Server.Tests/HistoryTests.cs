using Skevin.StandIn;

namespace Skevin.Server.Tests;

/// <summary>The demo's past is lived through at full speed: the agents read and push every pass of it.</summary>
public sealed class HistoryTests(RunningServer server) : IClassFixture<RunningServer>
{
    [Fact]
    public async Task Half_an_hour_of_history_has_no_hole_and_is_known_to_be_back_filled()
    {
        await using var standIn = await StandInHost.Start(new StandInOptions(Directory.CreateTempSubdirectory("skevin-stand-in").FullName, server.PracticePort, TimeSpan.FromMinutes(30)));
        var begun = DateTimeOffset.UtcNow;
        await server.Keeper.Send("api/clusters", new { kubeconfig = await File.ReadAllTextAsync(standIn.KubeconfigPath("larkfield-north")) });
        var collection = await ApiCalls.Until(() => server.Keeper.Json("api/clusters/larkfield-north/collection"), _ => true, 30, "the plan");
        await server.Keeper.Send("api/clusters/larkfield-north/collection/roll-out", new { plan = collection["plan"]!.DeepClone() });
        await ApiCalls.Until(() => server.Keeper.Json("api/practice/clock"), clock => !(bool)clock["catchingUp"]!, 90, "the present");
        var answer = await server.Keeper.Ask("k8s.node.cpu.time -> where node = \"north-1\" -> rate every 15s", begun.AddMinutes(-28), begun.AddMinutes(-1), "larkfield-north");
        var points = answer["series"]![0]!["points"]!.AsArray();
        points.Count.ShouldBeGreaterThan(100);
        points.ShouldAllBe(point => point![1] != null);
        var timeline = await server.Keeper.Json($"api/timeline?cluster=larkfield-north&from={Uri.EscapeDataString(begun.AddMinutes(-28).ToString("O"))}&slotMinutes=1&slots=10");
        var (samples, late) = (timeline["samples"]!.AsArray().Select(count => (long)count!).ToArray(), timeline["backFilled"]!.AsArray().Select(count => (long)count!).ToArray());
        samples.ShouldAllBe(count => count > 1000);
        late.ShouldBe(samples);
    }
}
