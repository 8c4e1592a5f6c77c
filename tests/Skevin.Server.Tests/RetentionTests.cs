using System.Net;
using System.Net.Http.Json;
using Npgsql;
using Skevin.Core.Access;
using Skevin.Storage.Blocks;

namespace Skevin.Server.Tests;

/// <summary>Each signal is kept its own time: what is older is refused when it comes, and goes as whole days.</summary>
public sealed class RetentionTests(RunningServer server) : IClassFixture<RunningServer>
{
    [Fact]
    public async Task A_signal_that_is_kept_shorter_refuses_older_stamps_and_loses_its_days_alone()
    {
        var (_, token) = await server.ClusterWithToken("retained");
        var old = DateTimeOffset.UtcNow.AddDays(-5);
        async Task<string> Push()
        {
            using var answer = await server.Anonymous().Push(token, OtlpBuilder.Request("room.temperature", "1", false, [(old, 4)]), gzip: false);
            return OpenTelemetry.Proto.Collector.Metrics.V1.ExportMetricsServiceResponse.Parser.ParseFrom(await answer.Content.ReadAsByteArrayAsync()).PartialSuccess?.ErrorMessage ?? "";
        }
        (await Push()).ShouldBe("");
        var days = (await server.Keeper.Json("api/retention"))["most"]!.GetValue<int>();
        (await server.Keeper.PutAsJsonAsync("api/retention", new { metrics = days + 1 })).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        (await (await server.Person(Roles.Reader | Roles.Installer)).PutAsJsonAsync("api/retention", new { metrics = 3 })).StatusCode.ShouldBe(HttpStatusCode.Forbidden);
        var kept = (await server.Keeper.Send("api/retention", new { metrics = 3, logs = days }, HttpMethod.Put))!;
        ((int)kept["metrics"]!, (int)kept["logs"]!, (int)kept["flows"]!).ShouldBe((3, days, days));
        (await Push()).ShouldContain("older");

        // Days of other signals stay.
        await using var database = NpgsqlDataSource.Create(server.Database);
        var day = DayPartitions.DayOf(old.ToUnixTimeMilliseconds());
        var partitions = new DayPartitions(database);
        await partitions.Ensure([("sample_batch", day), ("log_block", day), ("sample_summary", day)], default);
        await partitions.DropBefore(signal => signal == "metrics" ? day.AddDays(1) : day, default);
        foreach (var (table, there) in new[] { ("sample_batch", false), ("log_block", true), ("sample_summary", true) })
        {
            await using var look = database.CreateCommand($"select to_regclass('{table}_{day:yyyyMMdd}') is not null");
            ((bool)(await look.ExecuteScalarAsync())!).ShouldBe(there, table);
        }
    }
}
