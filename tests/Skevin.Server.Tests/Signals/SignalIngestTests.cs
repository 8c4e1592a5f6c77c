using System.Net;
using System.Text.Json.Nodes;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
using Skevin.Core.Access;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;
using Skevin.Storage.Blocks;
using Skevin.Storage.Flows;
using static Skevin.Server.Tests.Signals.SignalRequests;

namespace Skevin.Server.Tests.Signals;

public sealed class SignalIngestTests(RunningServer server) : IClassFixture<RunningServer>
{
    private static readonly DateTimeOffset Now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60 - 120);

    private Task<JsonNode> Ask(HttpClient who, string text, string cluster) => who.Ask(text, Now.AddMinutes(-30), Now.AddMinutes(2), cluster);

    private static long Left(JsonNode answer, int step) => (long)answer["steps"]![step]!["left"]!;

    private static string[] Column(JsonNode answer, string name)
    {
        var at = answer["columns"]!.AsArray().Select(column => (string)column!["name"]!).ToList().IndexOf(name);
        return [.. answer["rows"]!.AsArray().Select(row => row![at]?.ToString() ?? "")];
    }

    [Fact]
    public async Task A_span_sent_again_by_whomever_is_stored_once()
    {
        var (_, token) = await server.ClusterWithToken("spans-once");
        var trace = new TraceId(7, 7);
        ExportTraceServiceRequest Request(params ulong[] ids) => Traces(ids.Select(id => Span(trace, id, id - 1, Now, 20)), ("service.name", "ledger"), ("k8s.namespace.name", "auction"));
        (await server.Anonymous().Push(token, Request(1, 2, 3))).StatusCode.ShouldBe(HttpStatusCode.OK);
        (await server.Anonymous().Push(token, Request(2, 3, 4))).StatusCode.ShouldBe(HttpStatusCode.OK);
        await Task.WhenAll(Enumerable.Range(0, 8).Select(_ => server.Anonymous().Push(token, Request(4, 5))));
        Column(await Ask(server.Keeper, "spans -> order span", "spans-once"), "span").ShouldBe(Enumerable.Range(1, 5).Select(id => TraceId.SpanText((ulong)id)));
        var view = await server.Keeper.Json($"api/traces/{trace}?cluster=spans-once");
        view["spans"]!.AsArray().Count.ShouldBe(5);
        (await server.Keeper.GetAsync("api/traces/" + new TraceId(9, 9))).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        (await server.Keeper.GetAsync("api/traces/xyz")).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
    }

    [Fact]
    public async Task A_log_request_repeated_within_ten_minutes_is_stored_once_with_or_without_a_key()
    {
        var (_, token) = await server.ClusterWithToken("logs-once");
        var request = Logs([(Now, 17, "no answer from bank"), (Now.AddSeconds(1), 9, "done")], ("k8s.namespace.name", "auction"));
        await server.Anonymous().Push(token, request);
        await server.Anonymous().Push(token, request);
        await server.Anonymous().Push(token, request, "a");
        await server.Anonymous().Push(token, request, "a");
        // By body once, and under its key once: a key is the sender's word that this is another request.
        Left(await Ask(server.Keeper, "logs", "logs-once"), 0).ShouldBe(4);
        (await server.Anonymous().Push(token, request, "sha256:x")).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
    }

    [Fact]
    public async Task What_is_too_old_or_malformed_is_refused_with_the_reason()
    {
        var (_, token) = await server.ClusterWithToken("refused");
        using var old = await server.Anonymous().Push(token, Logs([(Now.AddDays(-40), 9, "old"), (Now, 9, "new")]));
        var partial = ExportLogsServiceResponse.Parser.ParseFrom(await old.Content.ReadAsByteArrayAsync()).PartialSuccess;
        (partial.RejectedLogRecords, partial.ErrorMessage).ShouldBe((1, "A stamp is older than the retention. (1)"));
        using var spans = await server.Anonymous().Push(token, Traces([Span(default, 1, 0, Now, 1)]));
        ExportTraceServiceResponse.Parser.ParseFrom(await spans.Content.ReadAsByteArrayAsync()).PartialSuccess.RejectedSpans.ShouldBe(1);
        var client = server.Anonymous();
        (await client.PushTo("v1/flows", "application/ipfix", token, [0, 9, 0, 16])).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        (await client.PushTo("v1/flows", "application/json", token, [])).StatusCode.ShouldBe(HttpStatusCode.UnsupportedMediaType);
        (await client.PushTo("v1/traces", "application/x-protobuf", token, [255, 255])).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        (await client.PushTo("v1/logs", "application/json", token, "{\"resourceLogs\":3}"u8.ToArray())).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        foreach (var path in new[] { "v1/logs", "v1/traces", "v1/flows" })
            (await client.PushTo(path, path == "v1/flows" ? "application/ipfix" : "application/x-protobuf", "skv_unknown", [])).StatusCode.ShouldBe(HttpStatusCode.Unauthorized);
    }

    [Fact]
    public async Task A_body_that_unpacks_beyond_the_limit_is_refused()
    {
        var (_, token) = await server.ClusterWithToken("bomb");
        (await server.Anonymous().PushTo("v1/logs", "application/x-protobuf", token, new byte[65 << 20])).StatusCode.ShouldBe(HttpStatusCode.RequestEntityTooLarge);
    }

    private static PodState Pod(string ns, string workload, string address, DateTimeOffset created) =>
        new(ns, workload + "-1", workload, "north-1", "Running", null, null, [address], "Deployment", workload, [], [], created, null);

    [Fact]
    public async Task Flows_are_paired_and_named_by_who_had_the_address_then()
    {
        var (cluster, token) = await server.ClusterWithToken("flows");
        var books = server.Services.GetRequiredService<AddressBooks>();
        await books.Learn(cluster, "flows", Inventory.Empty with { Pods = [Pod("auction", "bid-gateway", "192.0.2.10", Now.AddHours(-1)), Pod("auction", "ledger", "192.0.2.11", Now.AddHours(-1))] }, Now.AddMinutes(-10), default);
        // The ledger goes, and the address is given to another.
        await books.Learn(cluster, "flows", Inventory.Empty with { Pods = [Pod("auction", "bid-gateway", "192.0.2.10", Now.AddHours(-1)), Pod("payout", "settle", "192.0.2.11", Now.AddMinutes(-4))] }, Now.AddMinutes(-5), default);
        books.NameOutside("flows", new FlowsPlan([new OutsideName("203.0.113.0/24", "buyers")]));
        async Task Push(string node, params FlowRecord[] flows) =>
            (await server.Anonymous().PushTo("v1/flows", "application/ipfix", token, Ipfix(node, flows), Guid.NewGuid().ToString())).StatusCode.ShouldBe(HttpStatusCode.OK);
        var then = Now.AddMinutes(-7);
        await Push("north-1", Flow("192.0.2.10", "192.0.2.11", then), Flow("192.0.2.10", "192.0.2.11", Now), Flow("192.0.2.10", "192.0.2.11", Now));
        await Push("north-2", Flow("192.0.2.10", "192.0.2.11", then, FlowDirection.Ingress), Flow("192.0.2.10", "192.0.2.11", Now, FlowDirection.Ingress), Flow("192.0.2.10", "192.0.2.11", Now, FlowDirection.Ingress, ForwardingStatus.AclDeny));
        await Push("north-1", Flow("203.0.113.7", "192.0.2.10", Now, FlowDirection.Ingress));
        var rows = await Ask(server.Keeper, "flows -> order time -> order destination -> show source, destination, outcome, flows", "flows");
        Column(rows, "destination").Zip(Column(rows, "flows"), Column(rows, "outcome")).ShouldBe(
            [("bid-gateway", "1", "forwarded"), ("ledger", "1", "forwarded"), ("settle", "1", "forwarded"), ("settle", "1", "dropped")], ignoreOrder: true);
        Column(rows, "source").ShouldContain("buyers");
        // What was learned outlives the process.
        var again = new AddressBooks(NpgsqlDataSource.Create(server.Database));
        await again.Load(default);
        again.Of("flows").Name(new FlowMinute(new FlowKey(then.ToUnixTimeMilliseconds(), "n", FlowDirection.Egress, IPAddress.Parse("192.0.2.11"), IPAddress.Parse("192.0.2.11"), 1, 6, 64, "", "", ""), 1, 1, 1, 0, 0), "flows", AccessScope.Everything)!
            .Source.Name.ShouldBe("ledger");
    }

    [Fact]
    public async Task A_reader_of_one_namespace_sees_its_rows_and_of_others_nothing_but_that_they_are()
    {
        var (cluster, token) = await server.ClusterWithToken("scoped");
        var trace = new TraceId(11, 12);
        await server.Anonymous().Push(token, Logs([(Now, 9, "mine")], ("k8s.namespace.name", "auction")));
        await server.Anonymous().Push(token, Logs([(Now, 9, "theirs")], ("k8s.namespace.name", "payout")));
        await server.Anonymous().Push(token, Logs([(Now, 9, "nobodys")]));
        await server.Anonymous().Push(token, Traces([Span(trace, 1, 0, Now, 50)], ("service.name", "bid-gateway"), ("k8s.namespace.name", "auction")));
        await server.Anonymous().Push(token, Traces([Span(trace, 2, 1, Now.AddMilliseconds(5), 30)], ("service.name", "settle"), ("k8s.namespace.name", "payout")));
        await server.Services.GetRequiredService<AddressBooks>().Learn(cluster, "scoped", Inventory.Empty with
        {
            Pods = [Pod("auction", "bid-gateway", "192.0.2.20", Now.AddHours(-1)), Pod("payout", "settle", "192.0.2.21", Now.AddHours(-1)), Pod("payout", "statements", "192.0.2.22", Now.AddHours(-1))],
        }, Now, default);
        await server.Anonymous().PushTo("v1/flows", "application/ipfix", token, Ipfix("north-1", Flow("192.0.2.20", "192.0.2.21", Now), Flow("192.0.2.21", "192.0.2.22", Now), Flow("192.0.2.20", "203.0.113.9", Now)), "f");

        var reader = await server.Person(Roles.Reader, ["scoped"], ["auction"]);
        Column(await Ask(reader, "logs", "scoped"), "text").ShouldBe(["mine"]);
        Left(await Ask(reader, "spans", "scoped"), 0).ShouldBe(1);
        var flows = await Ask(reader, "flows -> order destination", "scoped");
        Column(flows, "destination").ShouldBe(["in a namespace you may not see", "outside"]);
        Column(flows, "destination.address").ShouldBe(["", "203.0.113.9"]);
        var view = await reader.Json($"api/traces/{trace}?cluster=scoped");
        view["spans"]!.AsArray().Select(span => (string)span!["workload"]!).ShouldBe(["bid-gateway", "in a namespace you may not see"]);
        view.ToJsonString().ShouldNotContain("settle");
        var fields = (await reader.Json($"api/ask/row-fields?kind=logs&cluster=scoped&from={Uri.EscapeDataString(Now.AddMinutes(-5).ToString("O"))}&to={Uri.EscapeDataString(Now.AddMinutes(1).ToString("O"))}")).AsArray();
        fields.Single(field => (string)field!["name"]! == "namespace")!["values"]!.AsArray().Select(value => (string)value!).ShouldBe(["auction"]);
        // A hint of a misspelt filter comes after the scope too.
        (await Ask(reader, "logs -> where namespace = \"payot\"", "scoped"))["notes"]!.ToJsonString().ShouldNotContain("payout");

        var stranger = await server.Person(Roles.Reader, ["another"]);
        Left(await Ask(stranger, "logs", "scoped"), 0).ShouldBe(0);
        (await stranger.GetAsync($"api/traces/{trace}?cluster=scoped")).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        var whole = await server.Person(Roles.Reader, ["scoped"]);
        Left(await Ask(whole, "logs", "scoped"), 0).ShouldBe(3);
        Left(await Ask(whole, "flows", "scoped"), 0).ShouldBe(3);
    }

    [Fact]
    public async Task Counts_by_level_and_minute_equal_SQL_over_plain_rows()
    {
        var (_, token) = await server.ClusterWithToken("sql");
        var random = new Random(5);
        var lines = Enumerable.Range(0, 3000).Select(i => (Time: Now.AddMilliseconds(-random.Next(20 * 60_000)), Severity: new[] { 9, 13, 17 }[random.Next(3)], Text: random.Next(40) == 0 ? "lot refused by bank" : "lot done")).ToArray();
        foreach (var chunk in lines.Chunk(400))
            await server.Anonymous().Push(token, Logs(chunk, ("k8s.namespace.name", "auction")));
        await using var connection = new NpgsqlConnection(server.Database);
        await connection.OpenAsync();
        await using (var make = new NpgsqlCommand("create table plain_line (ms bigint, severity int, body text)", connection))
            await make.ExecuteNonQueryAsync();
        await using (var copy = await connection.BeginBinaryImportAsync("copy plain_line from stdin (format binary)"))
        {
            foreach (var line in lines)
                await copy.WriteRowAsync(default, line.Time.ToUnixTimeMilliseconds(), line.Severity, line.Text);
            await copy.CompleteAsync();
        }
        foreach (var (text, condition) in new[] { ("logs -> count by level every 1m", "true"), ("logs -> where text says \"refused\" -> count by level every 1m", "body like '%refused%'") })
        {
            var answer = await Ask(server.Keeper, text, "sql");
            var ours = answer["series"]!.AsArray().SelectMany(series => series!["points"]!.AsArray().Where(point => (double?)point![1] > 0)
                .Select(point => ((string)series["labels"]!["level"]!, (long)point![0]!, (double)point[1]!))).Order().ToArray();
            var theirs = new List<(string, long, double)>();
            // A slot holds (t − 1 min, t].
            await using var command = new NpgsqlCommand($"select case severity when 9 then 'info' when 13 then 'warn' else 'error' end, (ms + 59999) / 60000 * 60000, count(*) from plain_line where {condition} group by 1, 2", connection);
            await using var reader = await command.ExecuteReaderAsync();
            while (await reader.ReadAsync())
                theirs.Add((reader.GetString(0), reader.GetInt64(1), reader.GetInt64(2)));
            ours.ShouldBe(theirs.Order());
        }
    }

    [Fact]
    public async Task An_event_read_again_by_another_collector_counts_once_and_again_when_the_cluster_counts_it_up()
    {
        var (_, token) = await server.ClusterWithToken("events");
        ExportLogsServiceRequest Event(string uid, int count)
        {
            var request = Logs([(Now, 13, "Back-off restarting")], ("k8s.namespace.name", "auction"));
            var record = request.ResourceLogs[0].ScopeLogs[0].LogRecords[0];
            record.EventName = "k8s.event";
            record.Attributes.AddRange(OtlpBuilder.Attributes(("k8s.event.uid", uid), ("k8s.event.count", count.ToString()), ("k8s.event.reason", "BackOff"), ("k8s.event.object", "Pod ledger-1")));
            return request;
        }
        foreach (var (uid, count, key) in new[] { ("u1", 1, "a"), ("u1", 1, "b"), ("u1", 2, "c"), ("u2", 1, "d") })
            await server.Anonymous().Push(token, Event(uid, count), key);
        var rows = await Ask(server.Keeper, "events -> where reason = \"BackOff\" and object like \"Pod%\"", "events");
        Left(rows, 1).ShouldBe(3);
        Left(await Ask(server.Keeper, "logs", "events"), 0).ShouldBe(0);
    }

    [Fact]
    public async Task A_rare_word_is_found_among_blocks_that_do_not_hold_it_and_the_account_still_counts_all()
    {
        var (_, token) = await server.ClusterWithToken("words");
        for (var block = 0; block < 12; block++)
            await server.Anonymous().Push(token, Logs(Enumerable.Range(0, 50).Select(i => (Now.AddSeconds(-block), 9, block == 7 && i == 3 ? "the quince is ripe" : $"lot {i} done")), ("k8s.namespace.name", "auction")));
        var answer = await Ask(server.Keeper, "logs -> where text says \"quince\"", "words");
        (Left(answer, 0), Left(answer, 1)).ShouldBe((600, 1));
        (Left(await Ask(server.Keeper, "logs -> where not text says \"quince\"", "words"), 1)).ShouldBe(599);
        using var csv = new HttpRequestMessage(HttpMethod.Post, "api/ask") { Content = System.Net.Http.Json.JsonContent.Create(new { text = "logs -> where text says \"quince\" -> show level, text", from = Now.AddMinutes(-30), to = Now.AddMinutes(1), cluster = "words" }) };
        csv.Headers.Accept.ParseAdd("text/csv");
        (await (await server.Keeper.SendAsync(csv)).Content.ReadAsStringAsync()).ShouldBe("level,text\r\ninfo,the quince is ripe\r\n");
        var page = (await server.Keeper.Send("api/ask", new { text = "logs", from = Now.AddMinutes(-30), to = Now.AddMinutes(1), cluster = "words", page = new { size = 250 } }))!;
        (page["rows"]!.AsArray().Count, (string)page["next"]!, (int)page["total"]!).ShouldBe((250, "250", 600));
        var last = (await server.Keeper.Send("api/ask", new { text = "logs", from = Now.AddMinutes(-30), to = Now.AddMinutes(1), cluster = "words", page = new { size = 250, after = "500" } }))!;
        (last["rows"]!.AsArray().Count, last["next"]).ShouldBe((100, null));
    }

    [Fact]
    public async Task Single_flows_of_the_last_hour_have_the_port_they_came_from_in_the_readers_scope()
    {
        var (_, token) = await server.ClusterWithToken("singles");
        var end = DateTimeOffset.UtcNow.AddMinutes(-3);
        foreach (var (i, at) in new[] { end, end.AddSeconds(-5), end.AddMinutes(-80) }.Index())
            (await server.Anonymous().PushTo("v1/flows", "application/ipfix", token, Ipfix("north-1", Flow("192.0.2.1", "192.0.2.2", at) with { SourcePort = (ushort)(50_000 + i) },
                Flow("192.0.2.1", "192.0.2.2", at, FlowDirection.Ingress, node: "north-2") with { SourcePort = (ushort)(50_000 + i) }), "single" + i)).StatusCode.ShouldBe(HttpStatusCode.OK);
        var answer = await server.Keeper.Ask("flows -> show time, source.port, duration, request -> order source.port", DateTimeOffset.UtcNow.AddHours(-2), DateTimeOffset.UtcNow, "singles");
        answer["rows"]!.AsArray().Select(row => ((long)(double)row![0]!, (double)row[1]!, (double)row[2]!, (string)row[3]!)).ShouldBe(
            [(end.ToUnixTimeMilliseconds(), 50_000, 0.02, "GET /lots/A-1"), (end.AddSeconds(-5).ToUnixTimeMilliseconds(), 50_001, 0.02, "GET /lots/A-1")]);
        answer["notes"]!.AsArray().Select(note => (string)note!["kind"]!).ShouldContain("single flows");
        // Sums by minute reach back further, and have no such port.
        (await server.Keeper.Ask("flows -> show time, request", DateTimeOffset.UtcNow.AddHours(-2), DateTimeOffset.UtcNow, "singles"))["rows"]!.AsArray().Sum(_ => 1).ShouldBeGreaterThanOrEqualTo(2);
        var reader = await server.Person(Roles.Reader, namespaces: ["parlour"]);
        (await reader.Ask("flows -> show source.port", DateTimeOffset.UtcNow.AddHours(-2), DateTimeOffset.UtcNow, "singles"))["rows"]!.AsArray().ShouldBeEmpty();
    }

    [Fact]
    public async Task Days_older_than_the_retention_go_in_every_signal()
    {
        var (_, token) = await server.ClusterWithToken("days");
        foreach (var day in new[] { 0, -4 })
        {
            await server.Anonymous().Push(token, Logs([(Now.AddDays(day), 9, "x")]));
            await server.Anonymous().Push(token, Traces([Span(new TraceId(1, (ulong)(50 + day)), 1, 0, Now.AddDays(day), 1)]));
            await server.Anonymous().PushTo("v1/flows", "application/ipfix", token, Ipfix("n", Flow("192.0.2.1", "192.0.2.2", Now.AddDays(day))), "d" + day);
        }
        var database = NpgsqlDataSource.Create(server.Database);
        async Task<long> Old(string table)
        {
            await using var command = database.CreateCommand($"select count(*) from {table} where day < current_date - 2");
            return (long)(await command.ExecuteScalarAsync())!;
        }
        string[] tables = ["log_block", "span_block", "trace_index", "flow_block"];
        foreach (var table in tables)
            (await Old(table)).ShouldBe(1);
        await new DayPartitions(database).DropBefore(DateOnly.FromDateTime(DateTime.UtcNow).AddDays(-2), DateOnly.FromDateTime(DateTime.UtcNow).AddDays(-2), default);
        foreach (var table in tables)
            (await Old(table)).ShouldBe(0);
        Left(await Ask(server.Keeper, "logs", "days"), 0).ShouldBe(1);
    }
}
