using Npgsql;
using OpenTelemetry.Proto.Collector.Metrics.V1;

namespace Skevin.Server.Tests;

/// <summary>The reference is PostgreSQL: the same samples in a plain table, the same aggregate in SQL.</summary>
public sealed class EngineAgainstSqlTests(RunningServer server) : IClassFixture<RunningServer>, IAsyncLifetime
{
    private const string Cluster = "against-sql";
    private static readonly DateTimeOffset End = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 3600 * 3600);
    private static readonly DateTimeOffset Begin = End.AddHours(-2);
    private NpgsqlConnection _connection = null!;

    public async ValueTask InitializeAsync()
    {
        _connection = new NpgsqlConnection(server.Database);
        await _connection.OpenAsync();
        await using (var exists = new NpgsqlCommand("select to_regclass('plain') is not null", _connection))
            if ((bool)(await exists.ExecuteScalarAsync())!)
                return;
        var (_, token) = await server.ClusterWithToken(Cluster);
        await using (var table = new NpgsqlCommand("create table plain (metric text, pod text, ns text, t bigint, v double precision)", _connection))
            await table.ExecuteNonQueryAsync();
        var random = new Random(7);
        var request = new ExportMetricsServiceRequest();
        var rows = new List<(string Metric, string Pod, string Namespace, long Time, double Value)>();
        for (var pod = 0; pod < 24; pod++)
        {
            var ns = new[] { "auction", "payout", "intake" }[pod % 3];
            foreach (var counter in new[] { false, true })
            {
                var points = new List<(DateTimeOffset, double)>();
                var value = 0.0;
                for (var time = Begin.AddMinutes(-10); time <= End; time = time.AddSeconds(15))
                {
                    value = counter ? value + random.NextDouble() * 10 : random.NextDouble() * 100 - 20;
                    points.Add((time, value));
                    rows.Add((counter ? "c" : "g", $"pod-{pod}", ns, time.ToUnixTimeMilliseconds(), value));
                }
                request.ResourceMetrics.AddRange(OtlpBuilder.Request(counter ? "c" : "g", "1", counter, points, ("k8s.pod.name", $"pod-{pod}"), ("k8s.namespace.name", ns)).ResourceMetrics);
            }
        }
        (await server.Anonymous().Push(token, request)).IsSuccessStatusCode.ShouldBeTrue();
        await using var copy = await _connection.BeginBinaryImportAsync("copy plain from stdin (format binary)");
        foreach (var row in rows)
            await copy.WriteRowAsync(CancellationToken.None, row.Metric, row.Pod, row.Namespace, row.Time, row.Value);
        await copy.CompleteAsync();
    }

    public async ValueTask DisposeAsync() => await _connection.DisposeAsync();

    // A slot ends at t and covers (t − width, t]: ceil(t / width) × width is its end.
    private const string BySlot = "select ns, pod, (t + @w - 1) / @w * @w as slot, avg(v) as mean, min(v) as least, max(v) as greatest from plain where metric = 'g' and t > @from and t <= @to group by 1, 2, 3";

    private const string Rises = "select ns, pod, t as slot, v - lag(v) over (partition by pod order by t) as rise from plain where metric = 'c'";

    public static TheoryData<string, int, string> Cases => new()
    {
        { "g -> sum by namespace every 1m", 60, $"select ns, slot, sum(mean) from ({BySlot}) s group by 1, 2" },
        { "g -> mean by namespace every 5m", 300, $"select ns, slot, avg(mean) from ({BySlot}) s group by 1, 2" },
        { "g -> min by namespace every 10m", 600, $"select ns, slot, min(least) from ({BySlot}) s group by 1, 2" },
        { "g -> max by namespace every 10m", 600, $"select ns, slot, max(greatest) from ({BySlot}) s group by 1, 2" },
        { "g -> count by namespace every 1m", 60, $"select ns, slot, count(*) from ({BySlot}) s group by 1, 2" },
        { "c -> rise every 1m -> sum by namespace", 60, $"select ns, (slot + @w - 1) / @w * @w, sum(rise) from ({Rises}) s where slot > @from and slot <= @to group by 1, 2" },
        { "c -> rate every 5m -> sum by namespace", 300, $"select ns, (slot + @w - 1) / @w * @w, sum(rise) / (@w / 1000) from ({Rises}) s where slot > @from and slot <= @to group by 1, 2" },
        { "c -> where namespace != \"payout\" -> rate every 15s -> max by namespace", 15, $"select ns, slot, max(rise) / 15 from ({Rises}) s where slot > @from and slot <= @to and ns <> 'payout' group by 1, 2" },
    };

    [Theory]
    [MemberData(nameof(Cases))]
    public async Task The_engine_answers_as_sql_does(string enquiry, int width, string sql)
    {
        var answer = await server.Keeper.Ask(enquiry, Begin, End, Cluster);
        var own = answer["series"]!.AsArray().SelectMany(series => series!["points"]!.AsArray().Select(point =>
            (Key: ((string)series["labels"]!["namespace"]!, (long)(double)point![0]!), Value: (double)point[1]!))).ToDictionary(point => point.Key, point => point.Value);
        var expected = new Dictionary<(string, long), double>();
        await using var command = new NpgsqlCommand(sql, _connection);
        command.Parameters.AddWithValue("w", width * 1000L);
        command.Parameters.AddWithValue("from", Begin.ToUnixTimeMilliseconds());
        command.Parameters.AddWithValue("to", End.ToUnixTimeMilliseconds());
        await using var reader = await command.ExecuteReaderAsync();
        while (await reader.ReadAsync())
            expected[(reader.GetString(0), reader.GetInt64(1))] = Convert.ToDouble(reader.GetValue(2));
        expected.Count.ShouldBeGreaterThan(20);
        own.Keys.ShouldBe(expected.Keys, ignoreOrder: true);
        foreach (var (key, value) in expected)
            own[key].ShouldBe(value, Math.Max(1e-9, Math.Abs(value) * 1e-9), $"{enquiry} at {key}");
    }

    [Fact]
    public async Task Csv_holds_the_same_points()
    {
        using var request = new HttpRequestMessage(HttpMethod.Post, "api/ask") { Content = System.Net.Http.Json.JsonContent.Create(new { text = "g -> sum every 10m", from = Begin, to = End, cluster = Cluster }) };
        request.Headers.Accept.ParseAdd("text/csv");
        using var answer = await server.Keeper.SendAsync(request);
        var lines = (await answer.Content.ReadAsStringAsync()).Split("\r\n", StringSplitOptions.RemoveEmptyEntries);
        lines[0].ShouldBe("time,value");
        lines.Length.ShouldBe(13);
    }
}
