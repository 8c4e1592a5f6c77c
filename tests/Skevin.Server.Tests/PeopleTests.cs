using System.Net;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Skevin.Core.Access;

namespace Skevin.Server.Tests;

/// <summary>People, with whose eyes one looks, and what is written down of what they did.</summary>
public sealed class PeopleTests(RunningServer server) : IClassFixture<RunningServer>
{
    private static object Request(string email, string[] roles, string[]? clusters = null, string[]? namespaces = null) => new { email, name = "B. Wren", roles, clusters, namespaces };

    private async Task<(string Id, string Password)> Make(string email, string[] roles, string[]? clusters = null, string[]? namespaces = null)
    {
        var made = (await server.Keeper.Send("api/people", Request(email, roles, clusters, namespaces)))!;
        return ((string)made["id"]!, (string)made["password"]!);
    }

    private Task<JsonArray> Log(string text) => server.Keeper.Json("api/audit?text=" + Uri.EscapeDataString(text)).ContinueWith(read => read.Result.AsArray());

    private static async Task<HttpStatusCode> Status(HttpClient who, HttpMethod method, string path, object? body = null)
    {
        using var request = new HttpRequestMessage(method, path) { Content = JsonContent.Create(body ?? new { }) };
        using var answer = await who.SendAsync(request);
        return answer.StatusCode;
    }

    [Fact]
    public async Task A_person_is_made_changed_and_taken_out_and_each_is_written_down_without_secrets()
    {
        var (id, password) = await Make("wren@larkfield.example", ["reader"], namespaces: ["auction"]);
        password.Length.ShouldBe(16);
        var wren = await server.SignIn("wren@larkfield.example", password);
        (await wren.Json("api/session"))["namespaces"]!.AsArray().Select(name => (string)name!).ShouldBe(["auction"]);
        (await Status(wren, HttpMethod.Get, "api/people")).ShouldBe(HttpStatusCode.Forbidden);

        (await Status(server.Keeper, HttpMethod.Put, "api/people/" + id, Request("wren@larkfield.example", ["reader", "responder"]))).ShouldBe(HttpStatusCode.NoContent);
        var view = (await server.Keeper.Json("api/people")).AsArray().Single(person => (string)person!["id"]! == id)!;
        view["roles"]!.AsArray().Select(role => (string)role!).ShouldBe(["reader", "responder"]);
        view["namespaces"].ShouldBeNull();

        // Their own password, then one that is drawn anew.
        (await Status(wren, HttpMethod.Post, "api/session/password", new { current = "wrong", @new = "a-long-new-password" })).ShouldBe(HttpStatusCode.BadRequest);
        (await Status(wren, HttpMethod.Post, "api/session/password", new { current = password, @new = "a-long-new-password" })).ShouldBe(HttpStatusCode.NoContent);
        await server.SignIn("wren@larkfield.example", "a-long-new-password");
        var drawn = (string)(await server.Keeper.Send($"api/people/{id}/password", new { }))!["password"]!;
        await server.SignIn("wren@larkfield.example", drawn);

        (await Status(server.Keeper, HttpMethod.Delete, "api/people/" + id)).ShouldBe(HttpStatusCode.NoContent);
        (await Status(server.Anonymous(), HttpMethod.Post, "api/session", new { email = "wren@larkfield.example", password = drawn })).ShouldBe(HttpStatusCode.Unauthorized);

        var log = await Log("wren@larkfield.example");
        log.Select(entry => (string)entry!["action"]!).ShouldBe(["took out a person", "gave a person a new password", "changed their own password", "changed a person", "made a person"]);
        ((string)log[3]!["detail"]!).ShouldBe("reader, responder; all clusters; all namespaces");
        foreach (var secret in new[] { password, drawn, "a-long-new-password" })
            log.ToJsonString().ShouldNotContain(secret);
    }

    [Fact]
    public async Task A_keeper_looks_with_anothers_eyes_and_cannot_change_anything_with_them()
    {
        var (id, _) = await Make("finch@larkfield.example", ["reader", "installer", "keeper"], clusters: ["no-such-cluster"]);
        var keeper = await server.SignIn("amsel@larkfield.example", "falling-clock");
        (await Status(keeper, HttpMethod.Post, "api/session/as", new { id })).ShouldBe(HttpStatusCode.NoContent);
        var session = await keeper.Json("api/session");
        ((string)session["name"]!, (bool)session["seenByKeeper"]!).ShouldBe(("B. Wren", true));
        session["clusters"]!.AsArray().Select(name => (string)name!).ShouldBe(["no-such-cluster"]);
        (await Status(keeper, HttpMethod.Post, "api/tokens", new { name = "x", cluster = "none" })).ShouldBe(HttpStatusCode.Forbidden);
        (await Status(keeper, HttpMethod.Post, "api/session/as", new { id })).ShouldBe(HttpStatusCode.Forbidden);
        // What only reads is open.
        (await Status(keeper, HttpMethod.Post, "api/ask", new { text = "logs", from = DateTimeOffset.UtcNow.AddHours(-1), to = DateTimeOffset.UtcNow })).ShouldBe(HttpStatusCode.OK);
        (await Status(keeper, HttpMethod.Delete, "api/session/as")).ShouldBe(HttpStatusCode.NoContent);
        ((string)(await keeper.Json("api/session"))["name"]!).ShouldBe("R. Amsel");
        (await Status(keeper, HttpMethod.Delete, "api/session/as")).ShouldBe(HttpStatusCode.Conflict);
        (await Log("finch@larkfield.example")).Select(entry => (string)entry!["action"]!).ShouldContain("looked with a person's eyes");
    }

    [Theory]
    [InlineData("no-address", "B. Wren", "reader")]
    [InlineData("a@larkfield.example", " ", "reader")]
    [InlineData("a@larkfield.example", "B. Wren", "king")]
    public async Task What_does_not_fit_is_refused(string email, string name, string role) =>
        (await Status(server.Keeper, HttpMethod.Post, "api/people", new { email, name, roles = new[] { role } })).ShouldBe(HttpStatusCode.BadRequest);

    [Fact]
    public async Task The_last_keeper_stays_one_and_nobody_takes_out_themselves()
    {
        var me = (await server.Keeper.Json("api/people")).AsArray().Single(person => (bool)person!["you"]!)!;
        (await Status(server.Keeper, HttpMethod.Put, "api/people/" + me["id"], Request("amsel@larkfield.example", ["reader"]))).ShouldBe(HttpStatusCode.Conflict);
        (await Status(server.Keeper, HttpMethod.Put, "api/people/" + me["id"], Request("amsel@larkfield.example", ["keeper"], clusters: ["one"]))).ShouldBe(HttpStatusCode.Conflict);
        (await Status(server.Keeper, HttpMethod.Delete, "api/people/" + me["id"])).ShouldBe(HttpStatusCode.Conflict);
        (await Status(server.Keeper, HttpMethod.Put, "api/people/none", Request("x@larkfield.example", ["reader"]))).ShouldBe(HttpStatusCode.NotFound);
        (await Make("wren2@larkfield.example", ["reader"])).Id.ShouldNotBeEmpty();
        (await Status(server.Keeper, HttpMethod.Post, "api/people", Request("wren2@larkfield.example", ["reader"]))).ShouldBe(HttpStatusCode.Conflict);
    }
}
