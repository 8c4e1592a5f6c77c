using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Parquet;
using Skevin.Core.Access;
using Skevin.Server.Tests.Signals;
using static Skevin.Server.Tests.Signals.SignalRequests;

namespace Skevin.Server.Tests;

/// <summary>Whole answers as files. Reference for the columnar file: the reader of Parquet.Net; for the rest the answer in JSON.</summary>
public sealed class ExportTests(RunningServer server) : IClassFixture<RunningServer>
{
    private static readonly DateTimeOffset Now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60 - 120);

    private static async Task<HttpResponseMessage> Export(HttpClient who, string text, string mediaType, string cluster)
    {
        var request = new HttpRequestMessage(HttpMethod.Post, "api/ask") { Content = JsonContent.Create(new { text, from = Now.AddMinutes(-30), to = Now.AddMinutes(2), cluster }) };
        request.Headers.Accept.ParseAdd(mediaType);
        return await who.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
    }

    private async Task Fill(string cluster, int blocks, int lines)
    {
        var (_, token) = await server.ClusterWithToken(cluster);
        for (var block = 0; block < blocks; block++)
            await server.Anonymous().Push(token, Logs(Enumerable.Range(0, lines).Select(i => (Now.AddSeconds(-block).AddMilliseconds(-i), 9, $"sold \"lot {block * lines + i}\", {i} times")), ("k8s.namespace.name", block % 2 == 0 ? "auction" : "parlour")));
    }

    [Fact]
    public async Task Rows_are_given_on_whole_as_they_are_read()
    {
        await Fill("export-rows", 120, 1000);
        // More than an answer in the page may hold.
        var page = await server.Keeper.Ask("logs", Now.AddMinutes(-30), Now.AddMinutes(2), "export-rows");
        ((int)page["total"]!).ShouldBe(100_000);
        page["notes"]!.AsArray().Select(note => (string)note!["kind"]!).ShouldContain("cut");
        using var answer = await Export(server.Keeper, "logs -> parse \"sold {lot} times\" -> show time, text, lot", "application/x-ndjson", "export-rows");
        answer.Content.Headers.ContentLength.ShouldBeNull();
        using var reader = new StreamReader(await answer.Content.ReadAsStreamAsync());
        var texts = new HashSet<string>();
        while (await reader.ReadLineAsync() is { } line)
        {
            var row = JsonNode.Parse(line)!;
            row.AsObject().Select(pair => pair.Key).ShouldBe(["time", "text", "lot"]);
            texts.Add((string)row["text"]!).ShouldBeTrue();
            ("sold " + row["lot"] + " times").ShouldBe((string)row["text"]!);
        }
        texts.Count.ShouldBe(120_000);
    }

    [Fact]
    public async Task Csv_quotes_and_is_in_scope()
    {
        await Fill("export-scope", 2, 3);
        var reader = await server.Person(Roles.Reader, namespaces: ["parlour"]);
        using var answer = await Export(reader, "logs -> show namespace, text", "text/csv", "export-scope");
        (await answer.Content.ReadAsStringAsync()).ShouldBe("namespace,text\r\nparlour,\"sold \"\"lot 3\"\", 0 times\"\r\nparlour,\"sold \"\"lot 4\"\", 1 times\"\r\nparlour,\"sold \"\"lot 5\"\", 2 times\"\r\n");
    }

    [Fact]
    public async Task A_columnar_file_holds_the_same_rows_and_points()
    {
        await Fill("export-columns", 3, 10);
        await using var file = await Parquet("logs -> parse \"{a} {b} {c} {n:number} {d}\" -> show time, level, text, n", "export-columns");
        file.Schema.DataFields.Select(field => (field.Name, field.ClrType)).ShouldBe([("time", typeof(DateTime)), ("level", typeof(ReadOnlyMemory<char>)), ("text", typeof(ReadOnlyMemory<char>)), ("n", typeof(double))]);
        using var group = file.OpenRowGroupReader(0);
        ((int)group.RowCount).ShouldBe(30);
        var (times, texts) = (new DateTime?[30], new string[30]);
        await group.ReadAsync<DateTime>(file.Schema.DataFields[0], times);
        await group.ReadAsync(file.Schema.DataFields[2], texts);
        var json = await server.Keeper.Ask("logs -> show time, text", Now.AddMinutes(-30), Now.AddMinutes(2), "export-columns");
        json["rows"]!.AsArray().Select(row => ((long)(double)row![0]!, (string)row[1]!)).Order()
            .ShouldBe(times.Zip(texts, (time, text) => (new DateTimeOffset(DateTime.SpecifyKind(time!.Value, DateTimeKind.Utc)).ToUnixTimeMilliseconds(), text)).Order());

        await using var counted = await Parquet("logs -> count by namespace every 1m", "export-columns");
        counted.Schema.DataFields.Select(field => field.Name).ShouldBe(["time", "namespace", "value"]);
        counted.CustomMetadata["unit:value"].ShouldBe("{line}");
        using var points = counted.OpenRowGroupReader(0);
        var values = new double?[points.RowCount];
        await points.ReadAsync<double>(counted.Schema.DataFields[2], values);
        values.Sum().ShouldBe(30);
    }

    [Fact]
    public async Task A_wrong_enquiry_is_no_file()
    {
        await Fill("export-wrong", 1, 1);
        using var answer = await Export(server.Keeper, "logs -> wher a = 1", "application/vnd.apache.parquet", "export-wrong");
        ((int)answer.StatusCode).ShouldBe(400);
        (await answer.Content.ReadAsStringAsync()).ShouldContain("where");
    }

    [Fact]
    public async Task What_was_passed_over_is_said_to_be_counted_in_part()
    {
        await Fill("export-passed", 8, 20);
        var answer = await server.Keeper.Ask("logs -> where namespace = \"auction\" -> where text says \"47\"", Now.AddMinutes(-30), Now.AddMinutes(2), "export-passed");
        answer["steps"]!.AsArray().Select(step => ((long)step!["left"]!, (bool)step["atLeast"]!)).Last().ShouldBe((1, false));
        ((long)answer["steps"]![0]!["left"]!, (bool)answer["steps"]![0]!["atLeast"]!).ShouldBe((160, false));
        ((long)answer["steps"]![1]!["left"]!).ShouldBeInRange(20, 79);
        ((bool)answer["steps"]![1]!["atLeast"]!).ShouldBeTrue();
        var whole = await server.Keeper.Ask("logs -> where namespace = \"auction\"", Now.AddMinutes(-30), Now.AddMinutes(2), "export-passed");
        ((long)whole["steps"]![1]!["left"]!, (bool)whole["steps"]![1]!["atLeast"]!).ShouldBe((80, false));
    }

    private async Task<ParquetReader> Parquet(string text, string cluster)
    {
        using var answer = await Export(server.Keeper, text, "application/vnd.apache.parquet", cluster);
        answer.EnsureSuccessStatusCode();
        var bytes = new MemoryStream(await answer.Content.ReadAsByteArrayAsync());
        return await ParquetReader.CreateAsync(bytes);
    }
}
