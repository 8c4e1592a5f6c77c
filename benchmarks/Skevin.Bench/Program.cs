using Skevin.Bench;

// ./bench gives the database, a free port, the page to write and the folder for raw files.
var (database, port, page, folder) = (args[0], int.Parse(args[1]), args[2], args[3]);
var lines = args.Length > 4 ? int.Parse(args[4]) : 500_000;
string[] parts = args.Length > 5 ? args[5..] : ["samples", "logs", "spans", "flows", "long", "rules"];
var end = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 3600 * 3600);
var report = new Report();
await using (var server = await BenchServer.Start(database, port))
{
    foreach (var part in parts)
        await (part switch
        {
            "samples" => MetricsBench.Run(server, report, end),
            "logs" => RowsBench.Logs(server, report, end, lines, folder),
            "spans" => RowsBench.Spans(server, report, end, lines),
            "flows" => RowsBench.Flows(server, report, end, lines / 2),
            "long" => MetricsBench.RunLong(server, report, end),
            "rules" => AlarmsBench.Run(server, report),
            _ => throw new ArgumentException($"There is no part '{part}': samples, logs, spans, flows, long or rules."),
        });
}
if (args.Length > 5)
    return;
report.Write(page, $"""
    The data: 500 pods on 50 nodes, each with a counter of processor time in whole nanoseconds, a gauge of memory in pages, a counter of requests and a gauge in milliseconds, every 15 s for 12 h,
    {500 * 4 * 2880:N0} samples in requests of ten scrapes; for two weeks one gauge every minute, 10,080,000 samples. {lines:N0} log lines of five kinds with ids and prices, {lines:N0} spans ten a trace, {lines / 2:N0} flows between 80 addresses, each over two hours,
    in requests of 2,000. Figures are the least of three times where nothing else is said.
    """);
