using System.Net;
using Skevin.Core.Access;

namespace Skevin.Server.Tests;

/// <summary>A server that keeps what it measures of itself every second.</summary>
public sealed class ServerThatMeasuresItself : RunningServer
{
    protected override int OwnTelemetrySeconds => 1;
}

public sealed class OwnTelemetryTests(ServerThatMeasuresItself server) : IClassFixture<ServerThatMeasuresItself>
{
    [Fact]
    public async Task What_the_server_does_can_be_asked_for_like_anything_else_by_readers_of_the_whole()
    {
        var (_, token) = await server.ClusterWithToken("observed");
        var now = DateTimeOffset.UtcNow;
        Task<System.Text.Json.Nodes.JsonNode> Ask(HttpClient who, string text) => who.Ask(text, now.AddMinutes(-5), now.AddMinutes(5), "observed");
        (await Push(token, "room.temperature", 4)).ShouldBe(HttpStatusCode.OK);
        // One sample was sent by somebody; the rest are its own. Known once it has told them.
        async Task<double[]> Values(string text) => [.. (await Ask(server.Keeper, text))["series"]!.AsArray().SelectMany(series => series!["points"]!.AsArray()).Select(point => (double?)point![1]).OfType<double>()];
        async Task<bool> Known(HttpClient who, string metric)
        {
            using var answer = await who.PostAsync("api/ask", System.Net.Http.Json.JsonContent.Create(new { text = metric, from = now.AddMinutes(-5), to = now.AddMinutes(5), cluster = "observed" }));
            return answer.StatusCode == HttpStatusCode.OK;
        }
        await ApiCalls.Until(() => Known(server.Keeper, "skevin.server.items.accepted"), known => known, 30, "its own metrics");
        var accepted = await ApiCalls.Until(() => Values("skevin.server.items.accepted -> where skevin.signal = \"metrics\" and skevin.cluster = \"observed\" -> rise -> sum"), values => values.Sum() > 1, 30, "what it has accepted");
        accepted.ShouldAllBe(value => value >= 0);
        (await ApiCalls.Until(() => Values("skevin.server.enquiry.duration -> rise -> p95"), values => values.Length > 0, 30, "its enquiries")).ShouldAllBe(value => value > 0 && value < 30);
        // What the platform measures of requests is not asked for here: other servers of this process have meters of the same name, which come and go with them.
        (await Values("dotnet.process.memory.working_set -> sum")).ShouldAllBe(value => value > 1e6);
        // It has no namespace, so whoever reads a part does not see it.
        (await Known(await server.Person(Roles.Reader, ["observed"], ["auction"]), "dotnet.process.memory.working_set")).ShouldBeFalse();
    }

    [Fact]
    public async Task A_push_to_a_cluster_that_another_server_has_disconnected_is_refused_as_such()
    {
        var (cluster, token) = await server.ClusterWithToken("passing");
        (await Push(token, "room.temperature", 4)).ShouldBe(HttpStatusCode.OK);
        await using (var database = Npgsql.NpgsqlDataSource.Create(server.Database))
        await using (var elsewhere = database.CreateCommand($"delete from cluster where id = {cluster}"))
            (await elsewhere.ExecuteNonQueryAsync()).ShouldBe(1);
        (await Push(token, "room.humidity", 80)).ShouldBe(HttpStatusCode.Unauthorized);
    }

    private async Task<HttpStatusCode> Push(string token, string metric, double value)
    {
        using var answer = await server.Anonymous().Push(token, OtlpBuilder.Request(metric, "1", false, [(DateTimeOffset.UtcNow, value)]));
        return answer.StatusCode;
    }
}
