using System.Collections.Concurrent;
using System.IO.Compression;
using System.Net;
using System.Text.Json.Nodes;
using k8s;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;
using OpenTelemetry.Proto.Collector.Trace.V1;
using Skevin.ClusterApi;
using Skevin.Core.Traces;

namespace Skevin.Server.Tests;

/// <summary>Traces gathered and judged when they are whole, and a second destination that first refuses and then takes.</summary>
public sealed class DestinationTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>
{
    private const string South = "larkfield-south";
    private const string Collection = $"api/clusters/{South}/collection";

    [Fact]
    public async Task Whole_traces_reach_every_destination_and_one_that_refuses_keeps_up_nobody()
    {
        var (takes, got) = ("Bearer right", new ConcurrentQueue<(string Path, byte[] Body)>());
        await using var sink = await Sink(async context =>
        {
            if (context.Request.Headers.Authorization != takes)
            {
                context.Response.StatusCode = 401;
                await context.Response.WriteAsync("who are you?");
                return;
            }
            await using var body = new GZipStream(context.Request.Body, CompressionMode.Decompress);
            using var whole = new MemoryStream();
            await body.CopyToAsync(whole);
            got.Enqueue((context.Request.Path, whole.ToArray()));
        });
        await server.Keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig(South) });
        await ApiCalls.Until(() => server.Keeper.Json("api/clusters/" + South), view => (bool)view["complete"]!, 30, "the inventory");
        (await server.Keeper.PutAsync($"{Collection}/destinations/Archive/header", System.Net.Http.Json.JsonContent.Create(new { authorization = "x" }))).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        await server.Keeper.Send($"{Collection}/destinations/archive/header", new { authorization = "Bearer wrong" }, HttpMethod.Put);
        object Plan(bool tail) => new
        {
            metrics = new { resourceUsage = true, clusterState = false, endpoints = false, everySeconds = 5, endpointPort = "metrics", endpointPath = "/metrics", runtimePath = "metrics/containers" },
            traces = new { share = 0.02, tail = tail ? new { waitSeconds = 2, failed = true, slowerSeconds = 0.15 } : null },
            destinations = tail ? new[] { new { name = "archive", url = sink.Urls.First(), signals = new[] { "traces" } } } : null,
        };
        // Looked at before: the practice cluster has everything the roll-out takes.
        var before = (await server.Keeper.Send(Collection + "/manifests", new { plan = Plan(true) }))!["preflight"]!.AsArray();
        before.Select(item => (string)item!["what"]!).ShouldBe(["Rights of the account", "Nodes", "Room", "Way to this server", "Image of the agent", "Spans"]);
        before.ShouldAllBe(item => (string)item!["level"]! == "clear", before.ToJsonString());
        await server.Keeper.Send(Collection + "/roll-out", new { plan = Plan(true) });
        async Task<string[]> Troubles() => [.. (await server.Keeper.Json("api/arrivals?cluster=" + South))["troubles"]!.AsArray().Select(one => (string)one!["short"]!)];
        (await ApiCalls.Until(Troubles, found => found.Length > 0, 90, "the refusal")).ShouldBe(["archive takes nothing"]);
        got.ShouldBeEmpty();

        // Here they have arrived meanwhile, each whole: kept for what it is, or with the weight of the share.
        var now = DateTimeOffset.UtcNow;
        async Task<JsonArray> Rows(string text) => (await server.Keeper.Ask(text, now.AddMinutes(-10), now.AddMinutes(2), South))["rows"]!.AsArray();
        var traces = await ApiCalls.Until(() => Rows("spans -> traces -> show trace, duration, errors"), rows => rows.Count > 20, 60, "traces");
        var threshold = HeadSampling.Threshold(0.02);
        traces.Count(row => (double)row![1]! < 0.15 && (int)row[2]! == 0 && !HeadSampling.Keeps(TraceId.Parse((string)row[0]!), threshold)).ShouldBe(0);
        traces.Any(row => (double)row![1]! >= 0.15).ShouldBeTrue();

        // The right header goes into the cluster alone, and what waited comes.
        await server.Keeper.Send($"{Collection}/destinations/archive/header", new { authorization = takes }, HttpMethod.Put);
        await ApiCalls.Until(() => Task.FromResult(got.Count), count => count > 2, 60, "what waited");
        got.ShouldAllBe(one => one.Path == "/v1/traces" && ExportTraceServiceRequest.Parser.ParseFrom(one.Body).ResourceSpans.Count > 0);
        (await ApiCalls.Until(Troubles, found => found.Length == 0, 60, "no trouble")).ShouldBeEmpty();
        (await server.Keeper.Json(Collection)).ToJsonString().ShouldNotContain(takes);

        // The runtimes' pages say the same of a container as the usage of the node; the whole pod and the idle container are told apart.
        async Task<double> Cores(string text) => ((double)(await server.Keeper.Ask(text, now.AddMinutes(-1), DateTimeOffset.UtcNow, South))["series"]![0]!["points"]!.AsArray().Last(point => point![1] is not null)![1]!);
        const string Scope = "where namespace = \"auction\" and workload = \"bid-gateway\"";
        var (usage, container, idle, pod) = (await Cores($"container.cpu.time -> {Scope} -> rate -> sum"), await Cores($"container_processing_seconds_total -> {Scope} and skevin.runtime.entry = \"container\" -> rate -> sum"),
            await Cores($"container_processing_seconds_total -> {Scope} and skevin.runtime.entry = \"idle\" -> rate -> sum"), await Cores($"container_processing_seconds_total -> {Scope} and skevin.runtime.entry = \"pod\" -> rate -> sum"));
        container.ShouldBe(pod - idle, 0.02 * pod);
        container.ShouldBe(usage, 0.3 * usage);
        idle.ShouldBeInRange(1e-6, 0.001);

        // Without it the collector, its service and the secret are gone.
        await server.Keeper.Send(Collection + "/roll-out", new { plan = Plan(false) });
        using var client = ClusterConnection.FromKubeconfig(server.Kubeconfig(South), out _)!;
        (await client.AppsV1.ListNamespacedDeploymentAsync("skevin-agents")).Items.ShouldBeEmpty();
        (await client.CoreV1.ListNamespacedServiceAsync("skevin-agents")).Items.ShouldBeEmpty();
        (await client.CoreV1.ListNamespacedSecretAsync("skevin-agents")).Items.Select(secret => secret.Metadata.Name).ShouldBe(["skevin-ingest"]);
        await server.Keeper.Send($"api/clusters/{South}", new { }, HttpMethod.Delete);
    }

    private static async Task<WebApplication> Sink(RequestDelegate answer)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        var app = builder.Build();
        app.Run(answer);
        await app.StartAsync();
        return app;
    }
}
