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
}
