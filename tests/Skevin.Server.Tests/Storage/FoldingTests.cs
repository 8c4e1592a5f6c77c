using System.Net;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;
using Npgsql;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using Skevin.Storage.Blocks;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Tests.Storage;

/// <summary>Folding changes how samples lie, never what is answered. The samples are older than what the head holds, so that the store is read.</summary>
public sealed class FoldingTests(RunningServer server) : IClassFixture<RunningServer>
{
    private static readonly DateTimeOffset Begin = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.AddHours(-40).ToUnixTimeSeconds() / 7200 * 7200 - 1800);

    private static readonly string[] Enquiries =
        ["g -> max by pod every 15s", "g -> mean every 5m", "g -> where pod = \"p-1\" -> min by pod every 1m", "c -> rate every 1m", "c -> rise every 10m -> sum", "c -> rate every 1h -> sum",
            "g -> min by pod every 2h", "g -> change every 30m", "g -> over 15m mean -> max every 5m", "g -> over 10m p90 -> max every 10m", "c -> rise every 2h"];

    // Of whole days: what is over is answered from the summaries of its days.
    private static readonly string[] Wide = ["g -> mean every 1h", "g -> max by pod every 4h", "c -> rise every 1h -> sum", "c -> rate every 2h", "g -> over 1h mean -> max every 1h"];

    private async Task<string[]> Answers(string cluster) =>
        await Task.WhenAll([
            .. Enquiries.Select(async text => (await server.Keeper.Ask(text, Begin, Begin.AddHours(4), cluster)).ToJsonString()),
            .. Wide.Select(async text => (await server.Keeper.Ask(text, Begin.AddDays(-2), Begin.AddDays(1.5), cluster)).ToJsonString())]);

    private async Task<long> Count(string table, string what, int cluster)
    {
        await using var database = NpgsqlDataSource.Create(server.Database);
        await using var command = database.CreateCommand($"select coalesce({what}, 0)::bigint from {table} where cluster_id = {cluster}");
        return (long)(await command.ExecuteScalarAsync())!;
    }

    private static ExportMetricsServiceRequest At(DateTimeOffset time, int i)
    {
        var request = new ExportMetricsServiceRequest();
        for (var pod = 0; pod < 6; pod++)
        {
            var random = new Random(i * 100 + pod);
            var at = pod < 4 ? time : time.AddMilliseconds(random.Next(4000));
            request.ResourceMetrics.AddRange(OtlpBuilder.Request("g", "1", false, [(at, random.NextDouble() * 100)], ("k8s.pod.name", "p-" + pod)).ResourceMetrics);
            request.ResourceMetrics.AddRange(OtlpBuilder.Request("c", "s", true, [(at, (i % 300) * (pod + 1) * 0.25)], ("k8s.pod.name", "p-" + pod)).ResourceMetrics);
        }
        return request;
    }

    private async Task<(int Cluster, string Token)> Filled(string name)
    {
        var (cluster, token) = await server.ClusterWithToken(name);
        for (var i = 0; i < 4 * 240; i += 8)
        {
            var request = new ExportMetricsServiceRequest();
            for (var j = i; j < i + 8; j++)
                request.ResourceMetrics.AddRange(At(Begin.AddSeconds(15 * j + 1), j).ResourceMetrics);
            (await server.Anonymous().Push(token, request, $"{name} {i}")).StatusCode.ShouldBe(HttpStatusCode.OK);
        }
        return (cluster, token);
    }

    // Ten minutes ahead: no batch is young.
    private SampleFolding Folding(NpgsqlDataSource database) => new(new SampleStore(database), server.Services.GetRequiredService<SeriesIndex>(), new DayPartitions(database), new FakeTimeProvider(DateTimeOffset.UtcNow.AddMinutes(10)));

    private async Task Same(string cluster, string[] before, string when)
    {
        foreach (var (i, answer) in (await Answers(cluster)).Index())
            answer.ShouldBe(before[i], $"{Enquiries.Concat(Wide).ElementAt(i)} {when}");
    }

    [Fact]
    public async Task Before_during_and_after_folding_the_answers_are_the_same_and_late_samples_join()
    {
        var (cluster, token) = await Filled("folded");
        var before = await Answers("folded");
        before.ShouldAllBe(answer => answer.Contains("[["));
        var samples = await Count("sample_batch", "sum(samples)", cluster);
        samples.ShouldBe(4 * 240 * 12);
        await using var database = NpgsqlDataSource.Create(server.Database);
        var fold = Task.Run(() => Folding(database).Run(CancellationToken.None));
        while (!fold.IsCompleted)
            await Same("folded", before, "during");
        (await fold).ShouldBe(120);
        (await Count("sample_batch", "count(*)", cluster)).ShouldBe(0);
        (await Count("sample_chunk", "sum(samples)", cluster)).ShouldBe(samples);
        await Same("folded", before, "behind");
        (await Count("sample_summary", "count(*) filter (where width_ms = 3600000)", cluster)).ShouldBeGreaterThanOrEqualTo(2);
        (await Folding(database).Run(CancellationToken.None)).ShouldBe(0);

        // A late sample joins its chunk; for a moment that is taken the first value stays.
        var late = OtlpBuilder.Request("g", "1", false, [(Begin.AddSeconds(16 + 7), 4321.125), (Begin.AddSeconds(1), 8765.125)], ("k8s.pod.name", "p-1"));
        (await server.Anonymous().Push(token, late, "late")).StatusCode.ShouldBe(HttpStatusCode.OK);
        var unfolded = await Answers("folded");
        unfolded[0].ShouldContain("4321.125");
        unfolded[0].ShouldNotContain("8765.125");
        (await Folding(database).Run(CancellationToken.None)).ShouldBe(1);
        await Same("folded", unfolded, "with the late sample");
        (await Count("sample_chunk", "sum(samples)", cluster)).ShouldBe(samples + 1);
    }

    [Fact]
    public async Task Folding_that_is_broken_off_anywhere_changes_nothing()
    {
        var (cluster, _) = await Filled("fold-broken-off");
        var before = await Answers("fold-broken-off");
        await using var database = NpgsqlDataSource.Create(server.Database);
        var whole = false;
        for (var ms = 1; !whole && ms < 4000; ms = ms * 3 / 2 + 1)
        {
            using var stop = new CancellationTokenSource(ms);
            try
            {
                await Folding(database).Run(stop.Token);
                whole = true;
            }
            catch (OperationCanceledException)
            {
                // As a killed server leaves it.
            }
            await Same("fold-broken-off", before, $"after {ms} ms");
        }
        whole.ShouldBeTrue();
        (await Count("sample_batch", "count(*)", cluster)).ShouldBe(0);
    }
}
