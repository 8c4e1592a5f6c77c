using System.Net;
using System.Net.Http.Json;
using Skevin.Core.Access;

namespace Skevin.Server.Tests;

public sealed class SheetBookTests(RunningServer server) : IClassFixture<RunningServer>
{
    private static object Body(string title, int version = 0, string text = "logs -> count every 1m") => new { title, about = "", version, strips = new[] { new { title = "Lines", subtitle = "", text, draw = "lines", height = 96, by = "", about = "" } } };

    [Fact]
    public async Task A_sheet_is_made_changed_by_one_at_a_time_taken_out_and_its_versions_stay()
    {
        var made = (await server.Keeper.Send("api/sheets", Body("Cold rooms")))!;
        var id = (string)made["id"]!;
        id.ShouldStartWith("cold-rooms-");
        (await server.Keeper.Json("api/sheets")).AsArray().Single(sheet => (string)sheet!["id"]! == id)!["own"]!.GetValue<bool>().ShouldBeTrue();

        (await server.Keeper.Send("api/sheets/" + id, Body("Cold rooms, all", 1), HttpMethod.Put))!["version"]!.GetValue<int>().ShouldBe(2);
        // Whoever began from version 1 meanwhile is refused, and nothing of theirs is lost by it.
        using (var late = await server.Keeper.PutAsJsonAsync("api/sheets/" + id, Body("Mine", 1)))
            late.StatusCode.ShouldBe(HttpStatusCode.Conflict);
        // Of many at once exactly one wins.
        var race = await Task.WhenAll(Enumerable.Range(0, 8).Select(i => server.Keeper.PutAsJsonAsync("api/sheets/" + id, Body("Race " + i, 2))));
        race.Count(answer => answer.StatusCode == HttpStatusCode.OK).ShouldBe(1);
        race.Count(answer => answer.StatusCode == HttpStatusCode.Conflict).ShouldBe(7);

        (await server.Keeper.Json($"api/sheets/{id}/versions")).AsArray().Select(one => (int)one!["version"]!).ShouldBe([3, 2, 1]);
        ((string)(await server.Keeper.Json($"api/sheets/{id}?version=1"))["title"]!).ShouldBe("Cold rooms");
        var file = await server.Keeper.GetStringAsync($"api/sheets/{id}/file");
        ((string)(await server.Keeper.Send("api/sheets/read", new { text = file }))!["strips"]![0]!["text"]!).ShouldBe("logs -> count every 1m");

        using (var gone = await server.Keeper.DeleteAsync("api/sheets/" + id))
            gone.StatusCode.ShouldBe(HttpStatusCode.NoContent);
        (await server.Keeper.GetAsync("api/sheets/" + id)).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        ((string)(await server.Keeper.Json($"api/sheets/{id}?version=3"))["title"]!).ShouldStartWith("Race");
    }

    [Fact]
    public void Sheets_that_ship_are_sheets_that_could_be_kept()
    {
        Skevin.Server.Dashboards.ReadySheets.All.SelectMany(sheet => sheet.Problems().Select(problem => $"{sheet.Id}: {problem}")).ShouldBeEmpty();
        Skevin.Server.Dashboards.ReadySheets.All.Select(sheet => sheet.Id).ShouldBeUnique();
    }

    [Fact]
    public async Task What_ships_stays_as_it_is_and_mistakes_are_named()
    {
        using (var ready = await server.Keeper.PutAsJsonAsync("api/sheets/cluster-resources", Body("Mine", 1)))
            ready.StatusCode.ShouldBe(HttpStatusCode.Conflict);
        (await server.Keeper.DeleteAsync("api/sheets/cluster-resources")).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        using var wrong = await server.Keeper.PostAsJsonAsync("api/sheets", Body("Mine", 0, "logs -> rat"));
        wrong.StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        (await wrong.Content.ReadAsStringAsync()).ShouldContain("is not a step");
        using var none = await server.Keeper.PostAsJsonAsync("api/sheets/read", new { text = "titel: x" });
        (await none.Content.ReadAsStringAsync()).ShouldContain("Line 1, column 1");
        var reader = await server.Person(Roles.Reader);
        (await reader.PostAsJsonAsync("api/sheets", Body("Mine"))).StatusCode.ShouldBe(HttpStatusCode.Forbidden);
    }

    private static object Following(string title, string kept, int version = 0) => new { title, about = "", version, strips = new[] { new { title = "Refused", subtitle = "", text = "logs", draw = "lines", height = 96, by = "", about = "", kept } } };

    [Fact]
    public async Task Strips_made_from_a_kept_enquiry_follow_it_and_stay_when_it_is_taken_out()
    {
        object Enquiry(string text, int version = 0) => new { title = "Bids refused", about = "", text, version };
        var kept = (await server.Keeper.Send("api/enquiries", Enquiry("logs -> where text says \"refused\" -> count every 1m")))!;
        var id = (string)kept["id"]!;
        var sheet = (await server.Keeper.Send("api/sheets", Following("Follows", id)))!;
        async Task<string> Text() => (string)(await server.Keeper.Json("api/sheets/" + (string)sheet["id"]!))["strips"]![0]!["text"]!;
        (await Text()).ShouldContain("says \"refused\"");

        (await server.Keeper.Send("api/enquiries/" + id, Enquiry("logs -> where text says \"late\" -> count every 1m", 1), HttpMethod.Put))!["version"]!.GetValue<int>().ShouldBe(2);
        (await Text()).ShouldContain("says \"late\"");
        using (var late = await server.Keeper.PutAsJsonAsync("api/enquiries/" + id, Enquiry("logs -> count every 1m", 1)))
            late.StatusCode.ShouldBe(HttpStatusCode.Conflict);
        using (var wrong = await server.Keeper.PutAsJsonAsync("api/enquiries/" + id, Enquiry("logs -> rat", 2)))
            (await wrong.Content.ReadAsStringAsync()).ShouldContain("is not a step");

        (await server.Keeper.DeleteAsync("api/enquiries/" + id)).StatusCode.ShouldBe(HttpStatusCode.NoContent);
        (await server.Keeper.Json("api/enquiries")).AsArray().ShouldNotContain(one => (string)one!["id"]! == id);
        (await Text()).ShouldContain("says \"late\"");
        (await server.Keeper.Json($"api/enquiries/{id}/versions")).AsArray().Select(one => (int)one!["version"]!).ShouldBe([3, 2, 1]);
        // What was never kept is nobody's to follow.
        ((string?)(await server.Keeper.Send("api/sheets", Following("Follows nobody", "nobody-000000")))!["strips"]![0]!["kept"]).ShouldBeNull();
        var reader = await server.Person(Roles.Reader);
        (await reader.PostAsJsonAsync("api/enquiries", Enquiry("logs"))).StatusCode.ShouldBe(HttpStatusCode.Forbidden);
    }

    [Fact]
    public async Task Names_of_a_sheet_are_replaced_in_its_enquiries_and_bounds_come_in_the_answers_unit()
    {
        var sheet = new { title = "From elsewhere", about = "", strips = new[] { new { title = "Lines", subtitle = "", text = "line_total -> where pod_name = \"a\" -> rate -> sum by pod_name", draw = "lines", height = 96, by = "pod_name", about = "" } } };
        var first = (await server.Keeper.Send("api/sheets/bind", new { sheet, bindings = Array.Empty<object>() }))!;
        first["foreign"]!.AsArray().Select(one => (string)one!["name"]!).ShouldBe(["line_total"]);
        var bound = (await server.Keeper.Send("api/sheets/bind", new { sheet, bindings = new[] { new { source = "", name = "line_total", to = "lines" }, new { source = "line_total", name = "pod_name", to = "pod" } } }))!;
        ((string)bound["sheet"]!["strips"]![0]!["text"]!).ShouldBe("lines\n  -> where pod = \"a\"\n  -> rate\n  -> sum by pod");
        ((string)bound["sheet"]!["strips"]![0]!["by"]!).ShouldBe("pod");
        using (var empty = await server.Keeper.PostAsJsonAsync("api/sheets/bind", new { sheet, bindings = new[] { new { source = "", name = "line_total", to = " " } } }))
            empty.StatusCode.ShouldBe(HttpStatusCode.BadRequest);

        var now = DateTimeOffset.UtcNow;
        var answer = (await server.Keeper.Send("api/ask", new { text = "spans -> p95 duration every 1m", from = now.AddMinutes(-5), to = now, bounds = new[] { "400ms", "5", "80%" } }))!;
        answer["bounds"]!.AsArray().Select(one => (double?)one).ShouldBe([0.4, 5, null]);
        answer["notes"]!.AsArray().ShouldContain(note => (string)note!["kind"]! == "bound" && ((string)note["text"]!).Contains("'80%' is in 1"));
    }
}
