using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using Skevin.Core.Access;
using Skevin.Storage;

namespace Skevin.Server.Tests;

/// <summary>Rules judged live, over data pushed by the test, on the stand-in's second cluster.</summary>
public sealed class AlarmTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>, IAsyncLifetime
{
    private const string South = "larkfield-south";
    private string _token = "";

    public async ValueTask InitializeAsync()
    {
        if ((await server.Keeper.Json("api/clusters")).AsArray().Count == 0)
            await server.Keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig(South) });
        _token = (string)(await server.Keeper.Send("api/tokens", new { name = "alarms", cluster = South }))!["token"]!;
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    private Task Push(string metric, double value, string ns = "auction") =>
        server.Anonymous().Push(_token, OtlpBuilder.Request(metric, "s", false, [(DateTimeOffset.UtcNow, value)], ("k8s.namespace.name", ns)));

    private async Task<JsonNode> AlarmUntil(string rule, Func<JsonNode?, bool> holds, string what, Func<Task>? meanwhile = null) => (await ApiCalls.Until(async () =>
    {
        if (meanwhile is not null)
            await meanwhile();
        return (await server.Keeper.Json("api/alarms"))["alarms"]!.AsArray().FirstOrDefault(alarm => (string)alarm!["rule"]! == rule);
    }, holds, 40, what))!;

    private Task<JsonNode?> Rule(string name, string metric, object extra)
    {
        var body = JsonSerializer.SerializeToNode(extra)!.AsObject();
        (body["rule"], body["when"], body["every"], body["wait"], body["cluster"]) = (name, $"{metric} -> max by namespace", "5s", "1s", South);
        return server.Keeper.Send("api/alert-rules", body);
    }

    [Fact]
    public async Task A_contact_that_does_not_answer_is_tried_again_with_the_same_id()
    {
        var seen = new List<(string Key, string Body)>();
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseSetting("urls", "http://127.0.0.1:0");
        await using var receiver = builder.Build();
        receiver.MapPost("/hook", async (HttpContext context) =>
        {
            using var reader = new StreamReader(context.Request.Body);
            seen.Add((context.Request.Headers["Idempotency-Key"].ToString(), await reader.ReadToEndAsync()));
            return seen.Count < 3 ? Results.StatusCode(500) : Results.Ok();
        });
        await receiver.StartAsync();
        await server.Keeper.Send("api/contacts", new { name = "shaky", url = receiver.Urls.First() + "/hook" });
        await Rule("shaky delivery", "shaky.metric", new { above = "1", tell = new[] { "shaky" } });
        await AlarmUntil("shaky delivery", alarm => (string?)alarm?["state"] == "raised", "the alarm", () => Push("shaky.metric", 5));
        var message = await ApiCalls.Until(async () => (await server.Keeper.Json("api/messages")).AsArray().FirstOrDefault(row => (string)row!["contact"]! == "shaky"), row => row?["deliveredAt"] is not null, 40, "the delivery");
        ((int)message!["attempts"]!).ShouldBe(3);
        seen.Count.ShouldBe(3);
        seen.Select(attempt => attempt.Key).Distinct().ShouldHaveSingleItem();
        seen.Select(attempt => (string)JsonNode.Parse(attempt.Body)!["id"]!).Distinct().ShouldHaveSingleItem().ShouldBe(seen[0].Key);
    }

    [Fact]
    public async Task Each_slot_is_judged_once_and_without_a_hole()
    {
        var rule = (await Rule("steady judging", "steady.metric", new { above = "10" }))!;
        var id = Guid.Parse((string)rule["id"]!);
        async Task<long[]> Slots()
        {
            await using var scope = server.Services.CreateAsyncScope();
            return await scope.ServiceProvider.GetRequiredService<SkevinContext>().RuleVerdicts.Where(verdict => verdict.RuleId == id).OrderBy(verdict => verdict.SlotEnd).Select(verdict => verdict.SlotEnd).ToArrayAsync();
        }
        await Push("steady.metric", 1);
        var slots = await ApiCalls.Until(Slots, ends => ends.Length >= 4, 40, "four slots");
        slots.Zip(slots.Skip(1)).ShouldAllBe(pair => pair.Second - pair.First == 5000);
        slots.ShouldAllBe(end => end % 5000 == 0);
    }

    [Fact]
    public async Task A_rule_that_follows_the_usual_is_judged_live_as_replay_says()
    {
        // The last hour and a half of this week and of the two before; this week it was wild for 20 min. Of the weeks before also the hour that goes on now, or its first minutes would tell too little.
        var now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 300 * 300);
        foreach (var week in new[] { 2, 1, 0 })
        {
            var points = Enumerable.Range(week == 0 ? 0 : -60, week == 0 ? 100 : 160).Select(i => (now.AddDays(-7 * week).AddMinutes(-i), week == 0 && i is >= 20 and < 40 ? 500 : 10 + (Math.Abs(i) * 7 + week) % 5)).Select(point => (point.Item1, (double)point.Item2)).ToArray();
            (await server.Anonymous().Push(_token, OtlpBuilder.Request("usual.load", "1", false, points, ("k8s.namespace.name", "auction")))).StatusCode.ShouldBe(HttpStatusCode.OK);
        }
        var document = new { rule = "unusual load", when = "usual.load -> max by namespace", usual = new { side = "high", spreads = 5, weeks = 2 }, hold = "10m", wait = "1s", cluster = South };
        var id = Guid.Parse((string)(await server.Keeper.Send("api/alert-rules", document))!["id"]!);
        var from = now.AddMinutes(-60);
        await using var scope = server.Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<SkevinContext>();
        // As after an hour in which the server stood still: every slot is judged, each by the bounds of its own hour.
        await context.AlarmRules.Where(rule => rule.Id == id).ExecuteUpdateAsync(set => set.SetProperty(rule => rule.JudgedTo, from.ToUnixTimeMilliseconds()));
        await ApiCalls.Until(() => context.RuleVerdicts.CountAsync(verdict => verdict.RuleId == id && verdict.SlotEnd > from.ToUnixTimeMilliseconds() && verdict.SlotEnd <= now.ToUnixTimeMilliseconds()), count => count == 12, 40, "twelve slots");
        var live = await context.AlarmEvents.AsNoTracking().Where(change => change.RuleId == id).OrderBy(change => change.At).Select(change => change.At).ToArrayAsync();
        var replay = (await server.Keeper.Send("api/alert-rules/replay", new { rule = document, from, to = now, cluster = South }))!;
        var raised = replay["raised"]!.AsArray().ShouldHaveSingleItem()!;
        live.ShouldBe([(DateTimeOffset)raised["from"]!, (DateTimeOffset)raised["to"]!]);
        // Slot by slot the bounds of the verdicts are those of replay's hours.
        var hours = replay["usual"]!["hours"]!.AsArray().ToDictionary(hour => (DateTimeOffset)hour!["to"]!, hour => (double)hour!["above"]!);
        foreach (var verdict in await context.RuleVerdicts.AsNoTracking().Where(verdict => verdict.RuleId == id && verdict.SlotEnd > from.ToUnixTimeMilliseconds() && verdict.SlotEnd <= now.ToUnixTimeMilliseconds()).ToListAsync())
        {
            var begin = DateTimeOffset.FromUnixTimeMilliseconds(verdict.SlotEnd).AddMinutes(-5);
            ((double)JsonNode.Parse(verdict.Verdicts)![0]!["above"]!).ShouldBe(hours[new DateTimeOffset(begin.Year, begin.Month, begin.Day, begin.Hour, 0, 0, TimeSpan.Zero).AddHours(1)], 1e-9);
        }
    }

    [Fact]
    public async Task Replay_tells_noise_other_bounds_and_which_incidents_each_would_have_missed()
    {
        var now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60);
        // Six hours of minutes: quiet, a short peak three hours ago, a long one an hour ago.
        var points = Enumerable.Range(1, 360).Select(i => (now.AddMinutes(-i), i is >= 178 and < 180 ? 0.9 : i is >= 60 and < 90 ? 0.8 : 0.2)).ToArray();
        (await server.Anonymous().Push(_token, OtlpBuilder.Request("replayed.wait", "s", false, points, ("k8s.namespace.name", "auction")))).StatusCode.ShouldBe(HttpStatusCode.OK);
        var written = (await server.Keeper.Send("api/incidents", new { title = "replies were slow", from = now.AddMinutes(-88), to = now.AddMinutes(-62), cluster = South }))!;
        await server.Keeper.Send("api/incidents", new { title = "something else", from = now.AddMinutes(-300), to = now.AddMinutes(-290), cluster = South });
        Task<JsonNode?> Replay(string above, string hold) => server.Keeper.Send("api/alert-rules/replay", new { rule = new { rule = "r", when = "replayed.wait -> max by namespace", above, hold, every = "1m" }, from = now.AddHours(-6), to = now, cluster = South });

        var answer = (await Replay("500ms", "5m"))!;
        answer["raised"]!.AsArray().Count.ShouldBe(1);
        (answer["missed"]!.AsArray().Select(title => (string)title!).ShouldHaveSingleItem(), (int)answer["incidents"]!).ShouldBe(("something else", 2));
        var variants = answer["variants"]!.AsArray();
        var present = variants.Single(variant => (bool)variant!["present"]!)!;
        ((string)present["bound"]!, (string)present["hold"]!, (int)present["raised"]!).ShouldBe(("500ms", "5m", 1));
        var sharp = variants.Single(variant => (string)variant!["bound"]! == "500ms" && (string)variant["hold"]! == "0")!;
        ((int)sharp["raised"]!, (int)sharp["briefly"]!).ShouldBe((2, 1));
        var wide = variants.Single(variant => (string)variant!["bound"]! == "1s" && (string)variant["hold"]! == "0")!;
        (wide["missed"]!.AsArray().Count, (string)wide["above"]!).ShouldBe((2, "1s"));
        ((double)sharp["messagesPerWeek"]!).ShouldBe(4 * 28, 1e-6);

        // What is offered can be sent as it is.
        foreach (var variant in variants)
            (await Replay((string)variant!["bound"]!, (string)variant["hold"]!))!["raised"]!.AsArray().Count.ShouldBe((int)variant["raised"]!);

        var reader = await server.Person(Roles.Reader, clusters: ["another"]);
        (await reader.Json($"api/incidents?cluster={South}")).AsArray().ShouldBeEmpty();
        using (var refused = await reader.PostAsJsonAsync("api/incidents", new { title = "x", from = now, to = now.AddMinutes(1) }))
            refused.StatusCode.ShouldBe(HttpStatusCode.Forbidden);
        using (var backwards = await server.Keeper.PostAsJsonAsync("api/incidents", new { title = "x", from = now, to = now }))
            backwards.StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        (await server.Keeper.DeleteAsync("api/incidents/" + written["id"])).StatusCode.ShouldBe(HttpStatusCode.NoContent);
        ((int)(await Replay("500ms", "5m"))!["incidents"]!).ShouldBe(1);
    }

    [Fact]
    public async Task A_shelved_alarm_is_recorded_but_not_told_and_a_reader_of_another_namespace_sees_nothing()
    {
        await server.Keeper.Send("api/contacts", new { name = "quiet-desk", url = $"http://127.0.0.1:{server.PracticePort + 3}/hook" });
        await Rule("shelved", "shelved.metric", new { above = "1", missing = "clear", tell = new[] { "quiet-desk" } });
        var alarm = await AlarmUntil("shelved", found => (string?)found?["state"] == "raised", "the alarm", () => Push("shelved.metric", 5));
        await server.Keeper.Send($"api/alarms/{alarm["id"]}/shelve", new { until = DateTimeOffset.UtcNow.AddHours(1) });
        var other = await server.Person(Roles.Reader | Roles.Responder, [South], ["payout"]);
        (await other.Json("api/alarms")).ToJsonString().ShouldNotContain("shelved");
        (await other.PostAsJsonAsync($"api/alarms/{alarm["id"]}/acknowledge", new { })).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        var own = await server.Person(Roles.Reader, [South], ["auction"]);
        (await own.Json("api/alarms"))["alarms"]!.ToJsonString().ShouldContain("shelved");
        var cleared = await ApiCalls.Until(() => server.Keeper.Json("api/alarms"), view => view["events"]!.AsArray().Any(change => (string)change!["rule"]! == "shelved" && (string)change["transition"]! == "cleared"), 40, "the clearing");
        cleared["alarms"]!.AsArray().ShouldNotContain(found => (string)found!["rule"]! == "shelved");
        (await server.Keeper.Json("api/messages")).AsArray().Where(message => (string)message!["rule"]! == "shelved").Select(message => (string)message!["transition"]!).ShouldBe(["raised"]);

        // What alarms did can be asked for, in the reader's scope.
        Task<JsonNode> Asked(HttpClient who, string text) => who.Ask(text, DateTimeOffset.UtcNow.AddMinutes(-10), DateTimeOffset.UtcNow.AddMinutes(1), South);
        var rows = (await Asked(server.Keeper, "alarms -> where rule = \"shelved\" -> show change, namespace, severity, value"))["rows"]!.AsArray();
        rows.Select(row => (string)row![0]!).ShouldBe(["cleared", "raised"]);
        rows[1]!.AsArray().Select(value => value!.ToString()).ShouldBe(["raised", "auction", "major", "5"]);
        (await Asked(server.Keeper, "alarms -> where rule = \"shelved\" and change = \"raised\" -> count by namespace every 1m"))["series"]![0]!["labels"]!["namespace"]!.GetValue<string>().ShouldBe("auction");
        (await Asked(own, "alarms -> where rule = \"shelved\""))["total"]!.GetValue<int>().ShouldBe(2);
        (await Asked(other, "alarms -> where rule = \"shelved\""))["rows"]!.AsArray().ShouldBeEmpty();
    }

    [Fact]
    public async Task Arrivals_are_series_of_minutes_in_the_readers_scope()
    {
        var minute = DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60;
        await using (var database = Npgsql.NpgsqlDataSource.Create(server.Database))
        await using (var fill = database.CreateCommand("""
            insert into arrival_minute (cluster_id, signal, source, minute, samples, received_at)
            select id, 'metrics', 'auction/lost-1:9464', at, 12, now() from cluster, generate_series(@minute - 20, @minute - 8) as at where name = 'larkfield-south' and at <> @minute - 13
            """))
        {
            fill.Parameters.AddWithValue("minute", minute);
            (await fill.ExecuteNonQueryAsync()).ShouldBe(12);
        }
        Task<JsonNode> Asked(HttpClient who, string text) => who.Ask(text, DateTimeOffset.FromUnixTimeSeconds((minute - 30) * 60), DateTimeOffset.FromUnixTimeSeconds(minute * 60), South);
        var series = (await Asked(server.Keeper, "arrivals -> where source like \"%lost%\""))["series"]!.AsArray().ShouldHaveSingleItem()!;
        (string.Join(' ', series["labels"]!["signal"]!, series["labels"]!["source"]!, series["labels"]!["state"]!)).ShouldBe("metrics auction/lost-1:9464 gone");
        // It began and ended inside the window; one minute is missing.
        var values = series["points"]!.AsArray().Select(point => ((long)(double)point![0]! / 60_000 - minute, (double?)point[1])).Where(point => point.Item2 is not null).ToArray();
        values.Select(point => point.Item1).ShouldBe(Enumerable.Range(-19, 13).Select(i => (long)i));
        values.Where(point => point.Item2 == 0).ShouldHaveSingleItem().Item1.ShouldBe(-12);
        (await Asked(await server.Person(Roles.Reader, [South], ["auction"]), "arrivals -> where source like \"%lost%\" -> min every 30m"))["series"]!.AsArray().ShouldHaveSingleItem();
        (await Asked(await server.Person(Roles.Reader, [South], ["payout"]), "arrivals"))["series"]!.AsArray().ShouldBeEmpty();
        (await server.Keeper.Json("api/ask/fields?metric=arrivals&cluster=larkfield-south")).AsArray().Select(field => (string)field!["name"]!).ShouldContain("source");
    }

    [Fact]
    public async Task A_rule_that_cannot_be_judged_says_why()
    {
        await Push("typed.metric", 1);
        var rule = (await Rule("wrong unit", "typed.metric", new { above = "5MiB" }))!;
        var told = await ApiCalls.Until(async () => (await server.Keeper.Json("api/alert-rules")).AsArray().First(row => (string)row!["id"]! == (string)rule["id"]!), row => row!["trouble"] is not null, 30, "the trouble");
        ((string)told!["trouble"]!).ShouldContain("5MiB");
    }

    [Theory]
    [InlineData("""{"rule":"r","when":"a -> rat","above":"1","cluster":"larkfield-south"}""", "when")]
    [InlineData("""{"rule":"r","when":"a","above":"1","cluster":"larkfield-south","tell":["nobody"]}""", "tell")]
    [InlineData("""{"rule":"r","when":"a","cluster":"larkfield-south"}""", "above")]
    public async Task A_mistake_in_a_rule_names_its_field(string rule, string field)
    {
        using var answer = await server.Keeper.PostAsync("api/alert-rules", new StringContent(rule, System.Text.Encoding.UTF8, "application/json"));
        answer.StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        JsonNode.Parse(await answer.Content.ReadAsStringAsync())!["errors"]!.AsArray().ShouldContain(mistake => (string)mistake!["field"]! == field);
    }

    [Fact]
    public async Task Only_keepers_see_the_addresses_of_contacts()
    {
        await server.Keeper.Send("api/contacts", new { name = "secret-desk", url = "http://127.0.0.1:1/hook?key=secret" });
        (await (await server.Person(Roles.Reader)).Json("api/contacts")).ToJsonString().ShouldNotContain("secret\"");
        (await server.Keeper.PostAsJsonAsync("api/contacts", new { name = "x", url = "file:///etc/passwd" })).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
    }
}
