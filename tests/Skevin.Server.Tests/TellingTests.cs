using System.Collections.Concurrent;
using System.Net;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using Skevin.Core.Access;
using Skevin.Core.Alarms.Telling;
using Skevin.Storage;

namespace Skevin.Server.Tests;

/// <summary>Who is told of an alarm, in which order, and what becomes of the messages; over data pushed by the test.</summary>
public sealed class TellingTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>, IAsyncLifetime
{
    private const string South = "larkfield-south";
    private readonly ConcurrentQueue<(string To, string Id, string Body, IHeaderDictionary Headers)> _got = new();
    private readonly ConcurrentDictionary<string, int> _answers = new();
    private WebApplication? _hooks;
    private string _token = "";

    public async ValueTask InitializeAsync()
    {
        if ((await server.Keeper.Json("api/clusters")).AsArray().Count == 0)
            await server.Keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig(South) });
        _token = (string)(await server.Keeper.Send("api/tokens", new { name = "telling", cluster = South }))!["token"]!;
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        _hooks = builder.Build();
        _hooks.MapPost("/{to}", async (string to, HttpContext context) =>
        {
            using var reader = new StreamReader(context.Request.Body);
            _got.Enqueue((to, context.Request.Headers["Idempotency-Key"].ToString(), await reader.ReadToEndAsync(), new HeaderDictionary(context.Request.Headers.ToDictionary())));
            return Results.StatusCode(_answers.GetValueOrDefault(to, 204));
        });
        await _hooks.StartAsync();
    }

    public async ValueTask DisposeAsync() => await _hooks!.DisposeAsync();

    private Task<JsonNode?> Contact(string name, bool? sign = null) => server.Keeper.Send("api/contacts", new { name, url = $"{_hooks!.Urls.First()}/{name}", sign });

    private async Task Push(string metric, double value, params string[] namespaces)
    {
        foreach (var ns in namespaces)
            (await server.Anonymous().Push(_token, OtlpBuilder.Request(metric, "s", false, [(DateTimeOffset.UtcNow, value)], ("k8s.namespace.name", ns)))).EnsureSuccessStatusCode();
    }

    private Task Rule(string name, string metric, params string[] tell) => server.Keeper.Send("api/alert-rules", new { rule = name, when = $"{metric} -> max by namespace", every = "5s", wait = "1s", cluster = South, above = "1s", missing = "keep", tell });

    private string[] To(string rule) => [.. _got.Where(one => one.Body.Contains($"\"{rule}\"", StringComparison.Ordinal)).Select(one => one.To)];

    [Fact]
    public async Task Mail_and_a_form_of_ones_own_carry_the_same_message_and_a_mail_that_is_not_taken_is_repeated_under_its_id()
    {
        foreach (var (url, template, what) in new[] { ("ftp://x", (string?)null, "ftp"), ("mailto:nobody", null, "no address"), ("http://127.0.0.1:1/x", "{\"text\": {rule}}", "JSON") })
        {
            using var refused = await server.Keeper.PostAsJsonAsync("api/contacts", new { name = "odd", url, template });
            refused.StatusCode.ShouldBe(HttpStatusCode.BadRequest, what);
        }
        await using var mails = new MailSink(server.MailPort) { Answer = "452 no room" };
        await server.Keeper.Send("api/contacts", new { name = "by-mail", url = "mailto:duty@larkfield.example" });
        await server.Keeper.Send("api/contacts", new { name = "formed", url = $"{_hooks!.Urls.First()}/formed", template = "{\"text\": \"{all}\", \"n\": \"{count}\"}" });
        await Rule("mailed", "mailed.metric", "by-mail", "formed");
        await Push("mailed.metric", 5, "auction");
        var refusal = await ApiCalls.Until(async () => (await server.Keeper.Json("api/messages")).AsArray().FirstOrDefault(message => (string)message!["contact"]! == "by-mail"), message => message?["lastError"] is not null, 40, "a mail that is not taken");
        ((string)refusal!["lastError"]!).ShouldContain("no room");
        mails.Answer = "250 kept";
        await ApiCalls.Until(() => Task.FromResult(mails.Mails.Count), count => count > 0, 40, "the mail");
        mails.Mails.TryPeek(out var mail).ShouldBeTrue();
        mail!.ShouldContain("To: duty@larkfield.example");
        mail.ShouldContain("Subject: major raised: mailed (auction, larkfield-south), 5 s");
        // The id of the message is that of the mail, so that a repeat is known by it.
        var id = Guid.Parse((string)refusal["id"]!);
        mail.ShouldContain($"Message-Id: <{id:N}@larkfield.example>");
        var formed = await ApiCalls.Until(() => Task.FromResult(_got.FirstOrDefault(one => one.To == "formed").Body), body => body is not null, 40, "the message in a form of its own");
        JsonNode.DeepEquals(JsonNode.Parse(formed!), new JsonObject { ["text"] = "major raised: mailed (auction, larkfield-south), 5 s", ["n"] = "1" }).ShouldBeTrue(formed);
    }

    [Fact]
    public async Task An_alarm_that_comes_and_goes_is_told_so_once_and_its_end_when_it_is_calm()
    {
        await Contact("patient");
        await Rule("flaps", "flapping.metric", "patient");
        for (var time = 1; time <= 5; time++)
        {
            foreach (var (value, count) in new[] { (5, time * 2 - 1), (0, time * 2) })
                await ApiCalls.Until(async () =>
                {
                    await Push("flapping.metric", value, "auction");
                    return (await server.Keeper.Json("api/alarms"))["events"]!.AsArray().Count(change => (string)change!["rule"]! == "flaps");
                }, seen => seen == count, 40, $"transition {count}");
        }
        await ApiCalls.Until(() => Task.FromResult(To("flaps").Length), count => count == 7, 40, "seven messages");
        // Three times raised and cleared as ever, the fourth raising with a word, then nothing but one end that waits until it is calm.
        _got.Where(one => one.Body.Contains("\"flaps\"", StringComparison.Ordinal)).SelectMany(one => JsonNode.Parse(one.Body)!["messages"]?.AsArray().ToArray() ?? [JsonNode.Parse(one.Body)]).Select(message => ((string)message!["transition"]!, (bool)message["flapping"]!))
            .ShouldBe([("raised", false), ("cleared", false), ("raised", false), ("cleared", false), ("raised", false), ("cleared", false), ("raised", true)]);
        var waiting = (await server.Keeper.Json("api/messages")).AsArray().Where(message => (string)message!["rule"]! == "flaps" && message["deliveredAt"] is null).ShouldHaveSingleItem()!;
        ((string)waiting["transition"]!).ShouldBe("cleared");
        ((DateTimeOffset)waiting["waits"]! - (DateTimeOffset)waiting["createdAt"]!).TotalMinutes.ShouldBe(20, 0.5);
    }

    [Fact]
    public async Task Whoever_is_on_duty_is_told_then_the_next_until_somebody_acknowledges_and_all_of_them_of_the_end()
    {
        foreach (var name in new[] { "early-bird", "late-bird", "chief" })
            await Contact(name);
        var today = DateOnly.FromDateTime(DateTime.UtcNow.AddDays(-1));
        object Team(params object[] steps) => new { team = "duty", zone = "Europe/Berlin", rota = new { people = new[] { "early-bird", "late-bird" }, first = today, days = 7 }, steps };
        using (var wrong = await server.Keeper.PutAsJsonAsync("api/teams/duty", Team(new { tell = "nobody" })))
        {
            wrong.StatusCode.ShouldBe(HttpStatusCode.BadRequest);
            (await wrong.Content.ReadAsStringAsync()).ShouldContain("There is no contact 'nobody'");
        }
        await server.Keeper.Send("api/teams/duty", Team(new { tell = "rota" }, new { tell = "chief", after = "12s" }, new { tell = "late-bird", after = "1h" }), HttpMethod.Put);
        var view = (await server.Keeper.Json("api/teams"))[0]!;
        ((string)view["shifts"]![0]!["person"]!, view["trouble"]?.ToString()).ShouldBe(("early-bird", null));
        (await server.Keeper.DeleteAsync($"api/contacts/{(await server.Keeper.Json("api/contacts")).AsArray().First(one => (string)one!["name"]! == "chief")!["id"]}")).StatusCode.ShouldBe(HttpStatusCode.Conflict);
        // Somebody takes the duty over: the message goes there.
        await server.Keeper.Send("api/teams/duty/instead", new { person = "late-bird", from = DateTimeOffset.UtcNow.AddHours(-1), to = DateTimeOffset.UtcNow.AddHours(1) });
        await Rule("scales stuck", "scales.lag", "duty");
        var alarm = await ApiCalls.Until(async () =>
        {
            await Push("scales.lag", 5, "auction");
            return (await server.Keeper.Json("api/alarms"))["alarms"]!.AsArray().FirstOrDefault(one => (string)one!["rule"]! == "scales stuck" && (string)one["state"]! == "raised");
        }, found => found is not null, 40, "the alarm");
        await ApiCalls.Until(() => Task.FromResult(To("scales stuck")), to => to.Length == 2, 40, "the second step");
        To("scales stuck").ShouldBe(["late-bird", "chief"]);
        var second = JsonNode.Parse(_got.Last(one => one.To == "chief").Body)!;
        ((string)second["team"]!, (int)second["step"]!, (double)second["unacknowledgedSeconds"]! >= 12).ShouldBe(("duty", 1, true));

        await server.Keeper.Send($"api/alarms/{alarm!["id"]}/acknowledge", new { });
        await server.Keeper.Send($"api/alarms/{alarm["id"]}/note", new { text = "the weigher is asked" });
        await server.Keeper.Send($"api/alarms/{alarm["id"]}/hand-over", new { to = "R. Amsel", text = "belt 2" });
        (await server.Keeper.PostAsJsonAsync($"api/alarms/{alarm["id"]}/hand-over", new { to = "nobody" })).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        // Nor can it be given to somebody who may not see it.
        await server.Person(Roles.Responder, [South], ["payout"]);
        (await server.Keeper.PostAsJsonAsync($"api/alarms/{alarm["id"]}/hand-over", new { to = "T. Linnet" })).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        await ApiCalls.Until(async () =>
        {
            await Push("scales.lag", 0, "auction");
            return To("scales stuck");
        }, to => to.Length == 4, 40, "the end");
        To("scales stuck").Skip(2).ShouldBe(["late-bird", "chief"], ignoreOrder: true);
        var timeline = (await server.Keeper.Json($"api/alarms/{alarm["id"]}/timeline")).AsArray();
        timeline.Select(entry => (string)entry!["kind"]!).Where(kind => kind != "message").ShouldBe(["raised", "note", "note", "note", "cleared"]);
        timeline.Select(entry => (string)entry!["text"]!).ShouldContain(text => text.Contains("since nobody had acknowledged (duty, step 2)"));
        timeline.Select(entry => (string)entry!["text"]!).ShouldContain("handed it over to R. Amsel: belt 2");
        // Whoever sees another namespace sees nothing of it.
        (await (await server.Person(Roles.Reader, [South], ["payout"])).GetAsync($"api/alarms/{alarm["id"]}/timeline")).StatusCode.ShouldBe(HttpStatusCode.NotFound);
    }

    [Fact]
    public async Task Alarms_of_one_pass_come_as_one_message_signed_and_repeated_under_the_same_id()
    {
        var secret = (string)(await Contact("signed-desk", sign: true))!["secret"]!;
        HookSignature.IsSecret(secret).ShouldBeTrue();
        _answers["signed-desk"] = 500;
        var contacts = await server.Keeper.Json("api/contacts");
        contacts.ToJsonString().ShouldNotContain(secret);
        var tested = (await server.Keeper.Send($"api/contacts/{contacts.AsArray().First(one => (string)one!["name"]! == "signed-desk")!["id"]}/test", new { }))!;
        ((string?)tested["error"]).ShouldBe("answered 500");
        await Push("doors.open", 5, "auction", "coldstore", "payout");
        await Rule("doors open", "doors.open", "signed-desk");
        await ApiCalls.Until(async () =>
        {
            await Push("doors.open", 5, "auction", "coldstore", "payout");
            return _got.Where(one => one.To == "signed-desk" && one.Body.Contains("doors open")).ToArray();
        }, got => got.Length >= 2, 60, "a repeat");
        _answers["signed-desk"] = 204;
        var got = await ApiCalls.Until(() => Task.FromResult(_got.Where(one => one.To == "signed-desk" && one.Body.Contains("doors open")).ToArray()), got => got.Length >= 3, 60, "the third");
        got.Select(one => one.Id).Distinct().ShouldHaveSingleItem();
        var body = JsonNode.Parse(got[0].Body)!;
        body["messages"]!.AsArray().Select(one => (string)one!["labels"]!["namespace"]!).Order().ShouldBe(["auction", "coldstore", "payout"]);
        ((string)body["id"]!).ShouldBe(got[0].Id);
        foreach (var one in got)
            one.Headers[HookSignature.Signature].ToString().ShouldBe(HookSignature.Sign(secret, one.Id, long.Parse(one.Headers[HookSignature.Timestamp].ToString(), System.Globalization.CultureInfo.InvariantCulture), one.Body));
    }

    [Fact]
    public async Task Somebody_whom_nothing_reaches_is_shown_and_everybody_else_is_told_once()
    {
        await Contact("deaf-desk");
        await Contact("other-desk");
        _answers["deaf-desk"] = 503;
        await Rule("ramp blocked", "ramp.blocked", "deaf-desk");
        await ApiCalls.Until(async () =>
        {
            await Push("ramp.blocked", 5, "auction");
            return _got.Count(one => one.To == "other-desk" && one.Body.Contains("deaf-desk cannot be told"));
        }, count => count == 1, 60, "the word of it");
        var view = (await server.Keeper.Json("api/contacts")).AsArray().First(one => (string)one!["name"]! == "deaf-desk")!;
        ((int)view["waiting"]! >= 1, view["failingSince"] is not null, (string?)view["lastError"]).ShouldBe((true, true, "answered 503"));
        (await server.Keeper.Json("api/messages")).AsArray().Count(one => (string)one!["rule"]! == "deaf-desk cannot be told" && (string)one["contact"]! == "other-desk").ShouldBe(1);
        _answers["deaf-desk"] = 204;
        (await ApiCalls.Until(async () => (await server.Keeper.Json("api/contacts")).AsArray().First(one => (string)one!["name"]! == "deaf-desk")!, one => one["failingSince"] is null && (int)one["waiting"]! == 0, 60, "its return")).ShouldNotBeNull();
        _got.Count(one => one.To == "other-desk" && one.Body.Contains("deaf-desk cannot be told")).ShouldBe(1);
    }

    [Fact]
    public async Task In_quiet_hours_what_is_not_bad_enough_waits_for_their_end()
    {
        await Contact("night-desk");
        var now = DateTimeOffset.UtcNow;
        string Clock(DateTimeOffset at) => at.ToString("HH:mm", System.Globalization.CultureInfo.InvariantCulture);
        await server.Keeper.Send("api/teams/nights", new { team = "nights", zone = "Etc/UTC", steps = new[] { new { tell = "night-desk" } }, quiet = new { from = Clock(now.AddHours(-1)), to = Clock(now.AddHours(1)), least = "critical" } }, HttpMethod.Put);
        await Rule("cellar warm", "cellar.warm", "nights");
        var message = await ApiCalls.Until(async () =>
        {
            await Push("cellar.warm", 5, "coldstore");
            return (await server.Keeper.Json("api/messages")).AsArray().FirstOrDefault(one => (string)one!["rule"]! == "cellar warm") ?? new JsonObject();
        }, one => one["contact"] is not null, 40, "the message");
        ((string)message["team"]!, message["deliveredAt"]?.ToString()).ShouldBe(("nights", null));
        ((DateTimeOffset)message["waits"]! - now).TotalMinutes.ShouldBeInRange(58, 62);
        To("cellar warm").ShouldBeEmpty();
        // The night is over: what waited comes.
        await using (var database = Npgsql.NpgsqlDataSource.Create(server.Database))
        await using (var command = database.CreateCommand("update message set next_try = now() where contact = 'night-desk'"))
            await command.ExecuteNonQueryAsync();
        await ApiCalls.Until(() => Task.FromResult(To("cellar warm")), to => to.Length == 1, 20, "the morning");
    }
}
