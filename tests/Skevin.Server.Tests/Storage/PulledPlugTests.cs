using System.Net;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;
using Npgsql;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using Skevin.Core.Traces;
using Skevin.Storage.Blocks;
using Skevin.Storage.Metrics;
using static Skevin.Server.Tests.Signals.SignalRequests;

namespace Skevin.Server.Tests.Storage;

/// <summary>
/// PostgreSQL is killed with signal 9 in the middle of what the workers do: folding with its summaries, merging, retention. Whatever it had done by
/// then, the answers stay the same, and what is begun again ends whole.
/// </summary>
public sealed class PulledPlugTests(ServerOnOwnPostgres server) : IClassFixture<ServerOnOwnPostgres>
{
    private static readonly DateTimeOffset Begin = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.AddHours(-40).ToUnixTimeSeconds() / 7200 * 7200 - 1800);

    private static readonly string[] Enquiries =
    [
        "g -> max by pod every 15s", "g -> mean every 5m", "c -> rate every 1m -> sum", "c -> rise every 30m", "g -> min by pod every 2h",
        "logs -> count by level every 1m", "logs -> where text says \"refused\" -> show time, text -> order text", "spans -> p95 duration by service every 1m", "spans -> where status = \"error\" -> traces", "flows -> sum bytes by destination.address every 1m",
    ];

    private async Task<string[]> Answers() => await Task.WhenAll(Enquiries.Select(async text =>
        (await ApiCalls.Until(() => server.Keeper.Send("api/ask", new { text, from = Begin, to = Begin.AddHours(5), cluster = "plug" }), answer => answer is not null, 60, text))!.ToJsonString()));

    private async Task<T> Database<T>(Func<NpgsqlDataSource, Task<T>> use)
    {
        await using var database = NpgsqlDataSource.Create(server.Database);
        return await use(database);
    }

    private Task<long> Count(string sql) => Database(async database =>
    {
        await using var command = database.CreateCommand(sql);
        return Convert.ToInt64(await command.ExecuteScalarAsync());
    });

    private async Task Fill(string token)
    {
        var client = server.Anonymous();
        for (var i = 0; i < 4 * 240; i += 16)
        {
            var request = new ExportMetricsServiceRequest();
            for (var j = i; j < i + 16; j++)
                for (var pod = 0; pod < 6; pod++)
                {
                    var at = Begin.AddSeconds(15 * j + 1);
                    request.ResourceMetrics.AddRange(OtlpBuilder.Request("g", "1", false, [(at, new Random(j * 100 + pod).NextDouble() * 100)], ("k8s.pod.name", "p-" + pod)).ResourceMetrics);
                    request.ResourceMetrics.AddRange(OtlpBuilder.Request("c", "s", true, [(at, (j % 300) * (pod + 1) * 0.25)], ("k8s.pod.name", "p-" + pod)).ResourceMetrics);
                }
            var time = Begin.AddSeconds(15 * i);
            (await client.Push(token, request, $"m{i}")).StatusCode.ShouldBe(HttpStatusCode.OK);
            (await client.Push(token, Logs(Enumerable.Range(0, 20).Select(j => (time.AddMilliseconds(j), j % 7 == 0 ? 17 : 9, $"lot A-{i}{j} {(j % 7 == 0 ? "refused" : "taken")}")), ("k8s.namespace.name", "auction")), $"l{i}")).StatusCode.ShouldBe(HttpStatusCode.OK);
            (await client.Push(token, Traces(Enumerable.Range(1, 20).Select(j => Span(new TraceId(78, (ulong)i + 1), (ulong)(i * 100 + j), j == 1 ? 0 : (ulong)(i * 100 + j / 2), time, j * 5, failed: j % 9 == 0)), ("service.name", "ledger"), ("k8s.namespace.name", "auction")), $"s{i}")).StatusCode.ShouldBe(HttpStatusCode.OK);
            (await client.PushTo("v1/flows", "application/ipfix", token, Ipfix("north-1", Flow("192.0.2.10", "192.0.2." + (11 + i % 4), time)), $"f{i}")).StatusCode.ShouldBe(HttpStatusCode.OK);
        }
    }

    [Fact]
    public async Task Killed_anywhere_in_folding_merging_and_retention_it_answers_the_same_and_goes_on()
    {
        var (_, token) = await server.ClusterWithToken("plug");
        await Fill(token);
        var old = Begin.AddDays(-6);
        (await server.Anonymous().Push(token, Logs([(old, 9, "old")]), "old")).StatusCode.ShouldBe(HttpStatusCode.OK);
        var before = await Answers();
        before.ShouldAllBe(answer => answer.Contains("[["));
        var samples = await Count("select sum(samples) from sample_batch");

        // The workers as the server runs them, but with a clock that lets nothing be too young.
        async Task Work(CancellationToken stop)
        {
            await using var database = NpgsqlDataSource.Create(server.Database);
            var clock = new FakeTimeProvider(DateTimeOffset.UtcNow.AddHours(2));
            await new SampleFolding(new SampleStore(database), server.Services.GetRequiredService<SeriesIndex>(), new DayPartitions(database), clock).Run(stop);
            await new BlockMerging(database, clock).Run(stop);
            await new DayPartitions(database).DropBefore(DayPartitions.DayOf(old.ToUnixTimeMilliseconds()).AddDays(1), DayPartitions.DayOf(old.ToUnixTimeMilliseconds()).AddDays(1), stop);
        }
        var (killed, whole) = (0, false);
        for (var ms = 1; !whole; ms = ms * 3 / 2 + 1)
        {
            var work = Task.Run(() => Work(CancellationToken.None));
            await Task.WhenAny(work, Task.Delay(ms));
            if (work.IsCompletedSuccessfully)
            {
                whole = true;
                break;
            }
            await server.Plug.Kill();
            killed++;
            try
            {
                // It may have come to its end in the moment before.
                await work;
                whole = true;
            }
            catch (Exception trouble) when (trouble is NpgsqlException or IOException)
            {
            }
            NpgsqlConnection.ClearAllPools();
            await server.Plug.Start();
            foreach (var (i, answer) in (await Answers()).Index())
                answer.ShouldBe(before[i], $"{Enquiries[i]}, killed after {ms} ms");
        }
        killed.ShouldBeGreaterThan(3);
        foreach (var (i, answer) in (await Answers()).Index())
            answer.ShouldBe(before[i], $"{Enquiries[i]}, behind");
        (await Count("select count(*) from sample_batch")).ShouldBe(0);
        (await Count("select sum(samples) from sample_chunk")).ShouldBe(samples);
        (await Count("select count(distinct width_ms) from sample_summary")).ShouldBe(3);
        (await Count("select sum(lines) from log_block")).ShouldBe(60 * 20);
        (await Count("select count(*) from span_block where spans < 1000")).ShouldBeLessThan(10);
    }
}
