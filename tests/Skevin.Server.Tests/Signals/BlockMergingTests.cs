using System.Net;
using System.Text.Json.Nodes;
using Microsoft.Extensions.Time.Testing;
using Npgsql;
using Skevin.Core.Traces;
using Skevin.Storage.Blocks;
using static Skevin.Server.Tests.Signals.SignalRequests;

namespace Skevin.Server.Tests.Signals;

/// <summary>Merging changes how rows lie, never what is answered.</summary>
public sealed class BlockMergingTests(RunningServer server) : IClassFixture<RunningServer>
{
    private static readonly DateTimeOffset Now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 3600 * 3600 - 1800);

    private static readonly string[] Enquiries =
    [
        "logs -> order time", "logs -> where text says \"refused\" -> count by level every 1m", "logs -> kinds", "events -> order time",
        "spans -> order span", "spans -> p95 duration by service every 1m", "spans -> where status = \"error\" -> traces", "spans -> where `http.response.status_code` = \"503\" -> show name, message, lot",
        "flows -> show time, source.address, destination.address, flows, bytes -> order destination.address -> order time", "flows -> sum bytes by destination.address every 1m", "flows -> graph addresses",
    ];

    private async Task<string[]> Answers(string cluster) =>
        await Task.WhenAll(Enquiries.Select(async text => (await server.Keeper.Ask(text, Now.AddMinutes(-10), Now.AddMinutes(10), cluster)).ToJsonString()));

    private async Task Same(string cluster, string[] before, string when)
    {
        foreach (var (i, answer) in (await Answers(cluster)).Index())
            answer.ShouldBe(before[i], $"{Enquiries[i]} {when}");
    }

    private async Task<long> Blocks(string table, int cluster)
    {
        await using var database = NpgsqlDataSource.Create(server.Database);
        await using var command = database.CreateCommand($"select count(*) from {table} where cluster_id = {cluster}");
        return (long)(await command.ExecuteScalarAsync())!;
    }

    private async Task<(int Cluster, string Token)> Filled(string name)
    {
        var (cluster, token) = await server.ClusterWithToken(name);
        var client = server.Anonymous();
        for (var i = 0; i < 70; i++)
        {
            var at = Now.AddSeconds(i * 3);
            var trace = new TraceId(77, (ulong)(i / 2 + 1));
            (await client.Push(token, Logs(Enumerable.Range(0, 20).Select(j => (at.AddMilliseconds(j), j % 7 == 0 ? 17 : 9, $"lot A-{i}{j} {(j % 7 == 0 ? "refused" : "taken")}")), ("k8s.namespace.name", "auction"), ("k8s.pod.name", "ledger-" + i % 3)), $"{name} l{i}")).StatusCode.ShouldBe(HttpStatusCode.OK);
            (await client.Push(token, Traces(Enumerable.Range(1, 20).Select(j => Span(trace, (ulong)(i * 100 + j), j == 1 ? 0 : (ulong)(i * 100 + j / 2), at, j * 5, failed: j % 9 == 0)), ("service.name", "ledger"), ("k8s.namespace.name", "auction")), $"{name} s{i}")).StatusCode.ShouldBe(HttpStatusCode.OK);
            (await client.PushTo("v1/flows", "application/ipfix", token, Ipfix("north-1", Flow("192.0.2.10", "192.0.2." + (11 + i % 4), at), Flow("192.0.2.10", "2001:db8::" + i % 3, at)), $"{name} f{i}")).StatusCode.ShouldBe(HttpStatusCode.OK);
        }
        return (cluster, token);
    }

    [Fact]
    public async Task Before_during_and_after_a_merge_the_answers_are_the_same()
    {
        var (cluster, token) = await Filled("merged");
        var before = await Answers("merged");
        var small = await Blocks("span_block", cluster);
        small.ShouldBeGreaterThan(20);

        // The merger's clock is two hours ahead: nothing is young, and the hour is over.
        await using var database = NpgsqlDataSource.Create(server.Database);
        var merging = new BlockMerging(database, new FakeTimeProvider(DateTimeOffset.UtcNow.AddHours(2)));
        var merge = Task.Run(() => merging.Run(CancellationToken.None));
        while (!merge.IsCompleted)
            await Same("merged", before, "during");
        (await merge).ShouldBeGreaterThan(20);
        foreach (var table in new[] { "log_block", "span_block", "flow_block" })
            (await Blocks(table, cluster)).ShouldBe(1, table);
        await Same("merged", before, "behind");
        (await server.Keeper.Json($"api/traces/{new TraceId(77, 1)}?cluster=merged"))["spans"]!.AsArray().Count.ShouldBe(40);
        (await merging.Run(CancellationToken.None)).ShouldBe(0);

        // What came before the merge is still known when it is sent again.
        await server.Anonymous().Push(token, Traces([Span(new TraceId(77, 1), 1, 0, Now, 5)], ("service.name", "ledger"), ("k8s.namespace.name", "auction")));
        await Same("merged", before, "behind");
    }

    [Fact]
    public async Task A_merge_that_is_broken_off_anywhere_changes_nothing()
    {
        var (cluster, _) = await Filled("broken-off");
        var before = await Answers("broken-off");
        await using var database = NpgsqlDataSource.Create(server.Database);
        var merging = new BlockMerging(database, new FakeTimeProvider(DateTimeOffset.UtcNow.AddHours(2)));
        var whole = false;
        for (var ms = 1; !whole && ms < 4000; ms = ms * 3 / 2 + 1)
        {
            using var stop = new CancellationTokenSource(ms);
            try
            {
                await merging.Run(stop.Token);
                whole = true;
            }
            catch (OperationCanceledException)
            {
                // As a killed server leaves it.
            }
            await Same("broken-off", before, $"after {ms} ms");
        }
        whole.ShouldBeTrue();
        (await Blocks("span_block", cluster)).ShouldBe(1);
    }

    [Fact]
    public async Task Sketches_beside_merged_blocks_say_what_the_spans_say_in_the_readers_scope()
    {
        var (cluster, _) = await Filled("sketched");
        await using var database = NpgsqlDataSource.Create(server.Database);
        await new BlockMerging(database, new FakeTimeProvider(DateTimeOffset.UtcNow.AddHours(2))).Run(CancellationToken.None);
        (await Count(database, $"select count(*) from span_block where cluster_id = {cluster} and sketch <> ''")).ShouldBe(1);
        var (from, to) = (Now.AddMinutes(-10).ToUnixTimeMilliseconds(), Now.AddMinutes(10).ToUnixTimeMilliseconds());
        async Task<(long Rows, double Weight)> Read(Core.Access.AccessScope scope, bool sketched)
        {
            var (rows, weight) = (0L, 0.0);
            await foreach (var batch in new RowReader(database, new Skevin.Storage.Flows.AddressBooks(database), scope, "sketched").Rows(Core.Query.Run.RowKind.Spans, from, to, Core.Query.Run.RowHints.None with { Sketched = sketched }, CancellationToken.None))
                foreach (var row in batch.Rows)
                    (rows, weight) = (rows + row.Rows, weight + row.Weight);
            return (rows, weight);
        }
        var everything = await Read(Core.Access.AccessScope.Everything, true);
        everything.ShouldBe(await Read(Core.Access.AccessScope.Everything, false));
        everything.Rows.ShouldBe(70 * 20);
        (await new RowReader(database, new Skevin.Storage.Flows.AddressBooks(database), Core.Access.AccessScope.Everything, "sketched").Most(Core.Query.Run.RowKind.Spans, from, to, CancellationToken.None)).ShouldBe(70 * 20);
        (await Read(new Core.Access.AccessScope(null, new HashSet<string> { "parlour" }), true)).Rows.ShouldBe(0);
    }

    private static async Task<long> Count(NpgsqlDataSource database, string sql)
    {
        await using var command = database.CreateCommand(sql);
        return Convert.ToInt64(await command.ExecuteScalarAsync());
    }
}
