using Microsoft.Extensions.DependencyInjection;
using Npgsql;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Metrics.V1;
using Skevin.Storage.Blocks;
using Skevin.Storage.Metrics;

namespace Skevin.Bench;

/// <summary>Samples: accepted, stored, asked; each against plain indexed rows in the same PostgreSQL.</summary>
public static class MetricsBench
{
    private const int Pods = 500;
    private static readonly string[] Classes = ["container.cpu.time", "container.memory.working_set", "http.server.requests", "queue.wait"];

    private sealed record Row(int Metric, int Pod, long Time, double Value);

    /// <summary>Runs it.</summary>
    public static async Task Run(BenchServer server, Report report, DateTimeOffset end)
    {
        var begin = end.AddHours(-12);
        var rows = Rows(begin, end, 15, Classes.Length);
        await server.Run("create table if not exists plain (series int not null, t bigint not null, v double precision not null, primary key (series, t))");
        var copied = await Report.Least(1, () => Copy(server.Database, rows));
        var accepted = await server.Push("v1/metrics", Requests(rows));
        report.Add("OTLP protobuf samples accepted durably, against COPY of the same samples as plain indexed rows", copied / accepted, " times", 1.0, remark: $"{rows.Count / accepted:N0} samples/s");

        // The same gauge, the same answer.
        const string sql = "select slot, avg(mean) from (select series, (t + 59999) / 60000 * 60000 as slot, avg(v) as mean from plain where series >= 500 and series < 1000 and t > @from and t <= @to group by 1, 2) s group by 1 order by 1";
        await Compare(server, report, "mean by minute over 500 series × 12 h, against SQL over plain indexed rows, equal results", sql, "container.memory.working_set -> mean every 1m", begin, end, 10);

        await Fold(server);
        // What was folded is gone from its table when PostgreSQL has cleaned up, which it does by itself after a while.
        await server.Run("vacuum sample_batch");
        var bytes = await server.Size("sample_chunk", "sample_summary", "sample_batch") / (double)rows.Count;
        report.Add("Bytes a sample, all included, whole mix", bytes, "", 2.0, atLeast: false, $"plain indexed rows {await server.Value<long>("select pg_total_relation_size('plain')") / (double)rows.Count:0.0}");
        foreach (var name in Classes)
            report.Tell($"Bytes a sample in the chunks, {name}", (await server.Value<double>($"select sum(length(payload))::float8 / sum(samples) from sample_chunk where metric = '{name}'")).ToString("0.00"));
        report.Tell("Of these bytes, summaries", (await server.Size("sample_summary") / (double)rows.Count).ToString("0.00"));
        report.Add("Bytes a sample, counters of processor time", await server.Value<double>("select sum(length(payload))::float8 / sum(samples) from sample_chunk where metric = 'container.cpu.time'"), "", 3, atLeast: false);
        await server.Run("truncate plain");
    }

    /// <summary>Two weeks of one gauge, a sample a minute.</summary>
    public static async Task RunLong(BenchServer server, Report report, DateTimeOffset end)
    {
        var begin = end.AddDays(-14);
        await server.Run("create table if not exists plain (series int not null, t bigint not null, v double precision not null, primary key (series, t))");
        for (var day = 0; day < 14; day++)
        {
            var rows = Rows(begin.AddDays(day), begin.AddDays(day + 1), 60, 1, 1);
            await Copy(server.Database, rows);
            await server.Push("v1/metrics", Requests(rows, 600_000, "long."));
        }
        await Fold(server);
        await server.Run("analyze plain");
        const string sql = "select slot, avg(mean) from (select series, (t + 3599999) / 3600000 * 3600000 as slot, avg(v) as mean from plain where t > @from and t <= @to group by 1, 2) s group by 1 order by 1";
        await Compare(server, report, "The same over 14 days by the hour, a sample a minute", sql, "long.container.memory.working_set -> mean every 1h", begin, end, 50);
        await AlarmsBench.Replay(server, report, end);
    }

    private static async Task Compare(BenchServer server, Report report, string what, string sql, string enquiry, DateTimeOffset from, DateTimeOffset to, double wanted)
    {
        var expected = new List<double>();
        var inSql = await Report.Least(3, async () =>
        {
            expected.Clear();
            await using var command = server.Database.CreateCommand(sql);
            command.CommandTimeout = 600;
            command.Parameters.AddWithValue("from", from.ToUnixTimeMilliseconds());
            command.Parameters.AddWithValue("to", to.ToUnixTimeMilliseconds());
            await using var reader = await command.ExecuteReaderAsync();
            while (await reader.ReadAsync())
                expected.Add(reader.GetDouble(1));
        });
        double[] values = [];
        var own = await Report.Least(3, async () => values = (await server.Ask(enquiry, from, to)).Series.Single().Values);
        if (values.Length != expected.Count || values.Zip(expected).Any(pair => Math.Abs(pair.First - pair.Second) > 1e-9 * Math.Abs(pair.Second)))
            throw new InvalidOperationException($"{enquiry} does not give what SQL gives.");
        report.Add(what, inSql / own, " times faster", wanted, remark: $"{own * 1000:N0} ms");
    }

    private static Task Fold(BenchServer server) => new SampleFolding(
        new SampleStore(server.Database), server.Services.GetRequiredService<SeriesIndex>(), new DayPartitions(server.Database), new Ahead(TimeSpan.FromHours(3))).Run(CancellationToken.None);

    private static List<Row> Rows(DateTimeOffset begin, DateTimeOffset end, int seconds, int classes, int first = 0)
    {
        var (rows, random) = (new List<Row>(), new Random(20_261_125));
        for (var metric = first; metric < first + classes; metric++)
            for (var pod = 0; pod < Pods; pod++)
            {
                var (value, level) = (0.0, random.NextDouble() * 1000);
                // The pods of a node are read together, nodes at their own moment of the interval.
                for (var time = begin.ToUnixTimeMilliseconds() + 137 * (pod % 50); time < end.ToUnixTimeMilliseconds(); time += seconds * 1000)
                {
                    value = metric switch
                    {
                        0 => Math.Round(value * 1e9 + seconds * 1e9 * (0.2 + 0.1 * random.NextDouble())) / 1e9,
                        1 => Math.Round(level * 262_144 + random.Next(200)) * 4096,
                        2 => value + random.Next(40),
                        _ => Math.Round(level + random.NextDouble() * 50) / 1000,
                    };
                    rows.Add(new Row(metric, pod, time, value));
                }
            }
        return rows;
    }

    // A request holds ten scrapes of a node.
    private static IEnumerable<ExportMetricsServiceRequest> Requests(List<Row> rows, long together = 150_000, string prefix = "") =>
        rows.GroupBy(row => (row.Pod % 50, row.Time / together)).OrderBy(group => group.Key.Item2).Select(group =>
        {
            var request = new ExportMetricsServiceRequest();
            foreach (var pod in group.GroupBy(row => row.Pod))
            {
                var owner = new ResourceMetrics { Resource = new() };
                owner.Resource.Attributes.AddRange(Otlp.Attributes(("k8s.namespace.name", "auction"), ("k8s.node.name", "north-" + pod.Key % 50), ("k8s.pod.name", "pod-" + pod.Key)));
                var scope = new ScopeMetrics();
                foreach (var metric in pod.GroupBy(row => row.Metric))
                {
                    var points = metric.Select(row => new NumberDataPoint { TimeUnixNano = (ulong)row.Time * 1_000_000, AsDouble = row.Value });
                    var built = new Metric { Name = prefix + Classes[metric.Key], Unit = new[] { "s", "By", "{request}", "s" }[metric.Key] };
                    if (metric.Key is 0 or 2)
                        (built.Sum = new Sum { IsMonotonic = true, AggregationTemporality = AggregationTemporality.Cumulative }).DataPoints.AddRange(points);
                    else
                        (built.Gauge = new Gauge()).DataPoints.AddRange(points);
                    scope.Metrics.Add(built);
                }
                owner.ScopeMetrics.Add(scope);
                request.ResourceMetrics.Add(owner);
            }
            return request;
        });

    private static async Task Copy(NpgsqlDataSource database, List<Row> rows)
    {
        await using var connection = await database.OpenConnectionAsync();
        await using var copy = await connection.BeginBinaryImportAsync("copy plain (series, t, v) from stdin (format binary)");
        copy.Timeout = TimeSpan.FromMinutes(10);
        foreach (var row in rows)
        {
            await copy.StartRowAsync();
            await copy.WriteAsync(row.Metric * Pods + row.Pod, NpgsqlTypes.NpgsqlDbType.Integer);
            await copy.WriteAsync(row.Time, NpgsqlTypes.NpgsqlDbType.Bigint);
            await copy.WriteAsync(row.Value, NpgsqlTypes.NpgsqlDbType.Double);
        }
        await copy.CompleteAsync();
    }
}
