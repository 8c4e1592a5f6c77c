using System.Net;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Builder;
using Microsoft.Extensions.DependencyInjection;
using Skevin.Core.Traces;
using Skevin.Core.Access;
using Skevin.Server.Live;
using Skevin.Server.Setup;
using Skevin.Server.Tests.Signals;
using Skevin.Storage.Arrivals;

namespace Skevin.Server.Tests;

/// <summary>Two servers on one database: both take in, both answer the same.</summary>
public sealed class PeerTests(RunningServer first) : IClassFixture<RunningServer>, IAsyncLifetime
{
    private WebApplication _app = null!;
    private HttpClient _second = null!;

    public async ValueTask InitializeAsync()
    {
        var port = TestDatabase.FreePorts(1);
        _app = SkevinApp.Build([], new Dictionary<string, string?> { ["SKEVIN_PORT"] = port.ToString(), ["SKEVIN_OTLP_GRPC_PORT"] = "0", ["SKEVIN_DATABASE"] = first.Database, ["SKEVIN_DEMO"] = "1" });
        await _app.Services.GetRequiredService<Preparation>().Run(CancellationToken.None);
        await _app.StartAsync();
        _second = new HttpClient(new SocketsHttpHandler { CookieContainer = new CookieContainer() }) { BaseAddress = new Uri($"http://127.0.0.1:{port}") };
        await _second.Send("api/session", new { email = SkevinOptions.DemoPerson, password = "falling-clock" });
    }

    public async ValueTask DisposeAsync()
    {
        _second.Dispose();
        await _app.StopAsync();
        await _app.DisposeAsync();
    }

    private static async Task<double[]> Values(HttpClient client, string cluster, string text, DateTimeOffset to)
    {
        try
        {
            return [.. (await client.Ask(text, to.AddMinutes(-10), to, cluster))["series"]!.AsArray().SelectMany(series => series!["points"]!.AsArray()).Where(point => point![1] is not null).Select(point => (double)point![1]!)];
        }
        catch (ShouldAssertException)
        {
            // The metric is not known there yet.
            return [];
        }
    }

    [Fact]
    public async Task What_one_takes_in_the_other_answers()
    {
        var (_, token) = await first.ClusterWithToken("peers-samples");
        var now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60);
        for (var i = 0; i < 8; i++)
            (await (i % 2 == 0 ? first.Anonymous() : _second).Push(token, OtlpBuilder.Request("m", "1", false, [(now.AddMinutes(i - 8), i)], ("k8s.pod.name", "p")))).StatusCode.ShouldBe(HttpStatusCode.OK);
        foreach (var client in new[] { first.Keeper, _second })
            (await ApiCalls.Until(() => Values(client, "peers-samples", "m -> max every 1m", now), values => values.SequenceEqual([0, 1, 2, 3, 4, 5, 6, 7]), 20, "all samples")).ShouldBe([0, 1, 2, 3, 4, 5, 6, 7]);

        // A second sender that reaches the other server is found out there too.
        var other = await _second.Push(token, OtlpBuilder.Request("m", "1", false, [(now.AddMinutes(-8), 99)], ("k8s.pod.name", "p")));
        (await other.Partial())!.ErrorMessage.ShouldContain("two senders");
    }

    [Fact]
    public async Task A_request_that_reaches_both_is_stored_once()
    {
        var (_, token) = await first.ClusterWithToken("peers-once");
        var now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60);
        var span = SignalRequests.Traces([SignalRequests.Span(new TraceId(7, 9), 1, 0, now.AddMinutes(-1), 5)], ("service.name", "ledger"));
        foreach (var answer in await Task.WhenAll(Enumerable.Range(0, 6).Select(i => (i % 2 == 0 ? first.Anonymous() : _second).Push(token, span, "the-same-key"))))
            answer.StatusCode.ShouldBe(HttpStatusCode.OK);
        // Without a key the other server knows it when it has followed.
        await Task.Delay(PeerFollower.Every * 3);
        (await _second.Push(token, span)).StatusCode.ShouldBe(HttpStatusCode.OK);
        (await first.Anonymous().Push(token, span)).StatusCode.ShouldBe(HttpStatusCode.OK);
        (await _second.Ask("spans", now.AddMinutes(-5), now, "peers-once"))["total"]!.GetValue<int>().ShouldBe(1);
    }

    [Fact]
    public async Task Arrivals_and_changes_are_heard_at_both()
    {
        var (cluster, token) = await first.ClusterWithToken("peers-heard");
        using var stop = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        var heard = Task.Run(async () =>
        {
            await foreach (var change in _app.Services.GetRequiredService<LiveFeed>().Read(AccessScope.Everything, stop.Token))
                if (change == new LiveEvent("alarms", "peers-heard"))
                    return true;
            return false;
        });
        await Task.Delay(500);
        var request = OtlpBuilder.Request("m", "1", false, [(DateTimeOffset.UtcNow, 1)]);
        request.ResourceMetrics[0].ScopeMetrics[0].Scope = new() { Attributes = { OtlpBuilder.Attributes(("skevin.source", "node/a")) } };
        (await first.Anonymous().Push(token, request)).StatusCode.ShouldBe(HttpStatusCode.OK);
        first.Services.GetRequiredService<LiveFeed>().Tell("alarms", "peers-heard");
        (await heard).ShouldBeTrue();
        await ApiCalls.Until(() => Task.FromResult(_app.Services.GetRequiredService<ArrivalBook>().Record(cluster, "metrics", "node/a")), record => record?.Minutes.Count == 1, 20, "the arrival");
    }
}
