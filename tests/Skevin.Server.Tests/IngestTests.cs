using System.IO.Compression;
using System.Net;
using System.Net.Http.Headers;
using System.Text;
using Google.Protobuf;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;
using OpenTelemetry.Proto.Collector.Metrics.V1;

namespace Skevin.Server.Tests;

public sealed class IngestTests(RunningServer server) : IClassFixture<RunningServer>
{
    private static readonly DateTimeOffset Now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60);

    private async Task<long> Stored(int cluster)
    {
        await using var connection = new NpgsqlConnection(server.Database);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand("select coalesce(sum(samples), 0) from sample_batch where cluster_id = @cluster", connection);
        command.Parameters.AddWithValue("cluster", cluster);
        return (long)(await command.ExecuteScalarAsync())!;
    }

    private static Skevin.Core.Access.Roles AllRoles => Skevin.Core.Access.Roles.All;

    private static (DateTimeOffset, double)[] Points(int count, double value = 1) => [.. Enumerable.Range(0, count).Select(i => (Now.AddSeconds(-15 * i), value))];

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task Accepted_means_committed(bool gzip)
    {
        var (cluster, token) = await server.ClusterWithToken("ingest-" + gzip);
        using var answer = await server.Anonymous().Push(token, OtlpBuilder.Request("m", "1", false, Points(5), ("k8s.namespace.name", "auction")), gzip: gzip);
        answer.StatusCode.ShouldBe(HttpStatusCode.OK);
        (await answer.Partial()).ShouldBeNull();
        (await Stored(cluster)).ShouldBe(5);
    }

    [Fact]
    public async Task Json_is_taken_and_answered_in_json()
    {
        var (cluster, token) = await server.ClusterWithToken("ingest-json");
        var nano = Now.ToUnixTimeMilliseconds() * 1_000_000;
        using var request = new HttpRequestMessage(HttpMethod.Post, "v1/metrics")
        {
            Content = new StringContent($$$"""{"resourceMetrics":[{"scopeMetrics":[{"metrics":[{"name":"m","gauge":{"dataPoints":[{"asInt":"3","timeUnixNano":"{{{nano}}}"}]}}]}]}]}""", Encoding.UTF8, "application/json"),
        };
        request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", token);
        using var answer = await server.Anonymous().SendAsync(request);
        answer.StatusCode.ShouldBe(HttpStatusCode.OK);
        answer.Content.Headers.ContentType!.MediaType.ShouldBe("application/json");
        (await Stored(cluster)).ShouldBe(1);
    }

    [Fact]
    public async Task A_token_that_sends_more_than_it_may_is_told_when_to_come_again()
    {
        var (cluster, _) = await server.ClusterWithToken("ingest-limited");
        var (row, token) = await server.Services.GetRequiredService<Skevin.Server.Ingest.IngestTokens>().Make("limited", cluster, false, null, "test", CancellationToken.None, 5);
        row.ItemsPerSecond.ShouldBe(5);
        // Ten seconds' worth are there at once, and the request that uses them up is still taken whole.
        (await server.Anonymous().Push(token, OtlpBuilder.Request("m", "1", false, Points(60)))).StatusCode.ShouldBe(HttpStatusCode.OK);
        using var refused = await server.Anonymous().Push(token, OtlpBuilder.Request("m", "1", false, [(Now.AddHours(-1), 1)]));
        refused.StatusCode.ShouldBe(HttpStatusCode.TooManyRequests);
        var wait = refused.Headers.RetryAfter!.Delta!.Value;
        wait.ShouldBeInRange(TimeSpan.FromSeconds(1), TimeSpan.FromSeconds(3));
        (await refused.Content.ReadAsStringAsync()).ShouldContain("5 samples, lines, spans and flows a second");
        (await Stored(cluster)).ShouldBe(60);
        await Task.Delay(wait);
        (await server.Anonymous().Push(token, OtlpBuilder.Request("m", "1", false, [(Now.AddHours(-1), 1)]))).StatusCode.ShouldBe(HttpStatusCode.OK);
    }

    [Fact]
    public async Task Over_gRPC_a_token_is_asked_for_and_what_is_refused_is_said()
    {
        var (cluster, token) = await server.ClusterWithToken("ingest-grpc");
        // A frame of a unary call: not compressed, its length, the message. Source: gRPC over HTTP/2, "Length-Prefixed-Message".
        async Task<(string Status, string Message, ExportMetricsServiceResponse? Answer)> Call(string? authorization, ExportMetricsServiceRequest request)
        {
            var message = request.ToByteArray();
            using var client = new HttpClient { DefaultRequestVersion = HttpVersion.Version20, DefaultVersionPolicy = HttpVersionPolicy.RequestVersionExact };
            using var call = new HttpRequestMessage(HttpMethod.Post, $"http://127.0.0.1:{server.GrpcPort}/opentelemetry.proto.collector.metrics.v1.MetricsService/Export")
            {
                Content = new ByteArrayContent([0, (byte)(message.Length >> 24), (byte)(message.Length >> 16), (byte)(message.Length >> 8), (byte)message.Length, .. message]),
                Version = HttpVersion.Version20, VersionPolicy = HttpVersionPolicy.RequestVersionExact,
            };
            call.Content.Headers.ContentType = new MediaTypeHeaderValue("application/grpc");
            call.Headers.TE.Add(new TransferCodingWithQualityHeaderValue("trailers"));
            if (authorization is not null)
                call.Headers.TryAddWithoutValidation("authorization", authorization);
            using var answer = await client.SendAsync(call);
            answer.StatusCode.ShouldBe(HttpStatusCode.OK);
            var body = await answer.Content.ReadAsByteArrayAsync();
            string Of(string name) => (answer.TrailingHeaders.TryGetValues(name, out var trailing) || answer.Headers.TryGetValues(name, out trailing) ? trailing : []).FirstOrDefault() ?? "";
            return (Of("grpc-status"), Uri.UnescapeDataString(Of("grpc-message")), body.Length >= 5 ? ExportMetricsServiceResponse.Parser.ParseFrom(body.AsSpan(5)) : null);
        }
        (await Call(null, OtlpBuilder.Request("m", "1", false, Points(1)))).ShouldSatisfyAllConditions(told => told.Status.ShouldBe("16"), told => told.Message.ShouldContain("ingest token is missing"));
        var mixed = OtlpBuilder.Request("m", "1", false, [.. Points(3), (Now.AddDays(-100), 1)]);
        var taken = await Call("Bearer " + token, mixed);
        taken.Status.ShouldBe("0");
        taken.Answer!.PartialSuccess.RejectedDataPoints.ShouldBe(1);
        taken.Answer.PartialSuccess.ErrorMessage.ShouldContain("older than the retention");
        (await Stored(cluster)).ShouldBe(3);
        // The services are not to be had on the page's port.
        (await server.Anonymous().PostAsync("opentelemetry.proto.collector.metrics.v1.MetricsService/Export", new ByteArrayContent([]))).StatusCode.ShouldBe(HttpStatusCode.NotFound);
    }

    [Fact]
    public async Task The_same_request_is_stored_once_whoever_asks_again()
    {
        var (cluster, token) = await server.ClusterWithToken("ingest-once");
        var request = OtlpBuilder.Request("m", "1", false, Points(4));
        var answers = await Task.WhenAll(Enumerable.Range(0, 8).Select(_ => server.Anonymous().Push(token, request, "the-same-key")));
        answers.ShouldAllBe(answer => answer.StatusCode == HttpStatusCode.OK);
        (await Stored(cluster)).ShouldBe(4);
        // Without a key the sample itself says that it is there.
        (await (await server.Anonymous().Push(token, request)).Partial()).ShouldBeNull();
        (await Stored(cluster)).ShouldBe(4);
    }

    [Fact]
    public async Task A_second_sender_with_another_value_loses_and_is_told()
    {
        var (cluster, token) = await server.ClusterWithToken("ingest-two-senders");
        await server.Anonymous().Push(token, OtlpBuilder.Request("m", "1", false, Points(3)));
        var partial = await (await server.Anonymous().Push(token, OtlpBuilder.Request("m", "1", false, Points(3, 2)))).Partial();
        partial.ShouldNotBeNull().RejectedDataPoints.ShouldBe(3);
        partial.ErrorMessage.ShouldContain("two senders");
        (await Stored(cluster)).ShouldBe(3);
    }

    [Fact]
    public async Task Stamps_out_of_bounds_are_a_partial_success_with_the_reason()
    {
        var (cluster, token) = await server.ClusterWithToken("ingest-stamps");
        var partial = await (await server.Anonymous().Push(token, OtlpBuilder.Request("m", "1", false, [(Now, 1), (Now.AddDays(-40), 1), (Now.AddMinutes(12), 1)]))).Partial();
        partial.ShouldNotBeNull().RejectedDataPoints.ShouldBe(2);
        partial.ErrorMessage.ShouldContain("retention");
        partial.ErrorMessage.ShouldContain("ahead");
        (await Stored(cluster)).ShouldBe(1);
    }

    [Fact]
    public async Task Samples_of_several_days_are_kept_and_asked_back_across_the_head()
    {
        var (_, token) = await server.ClusterWithToken("ingest-days");
        var points = Enumerable.Range(0, 5).Select(day => (Now.AddDays(-day), (double)day)).ToArray();
        await server.Anonymous().Push(token, OtlpBuilder.Request("days", "1", false, points));
        var answer = await server.Keeper.Ask("days -> max every 1d", Now.AddDays(-6), Now.AddDays(1), "ingest-days");
        answer["series"]![0]!["points"]!.AsArray().Select(point => (double?)point![1]).OfType<double>().Order().ShouldBe([0.0, 1, 2, 3, 4]);
    }

    [Fact]
    public async Task Without_a_valid_token_nothing_is_taken()
    {
        var (cluster, token) = await server.ClusterWithToken("ingest-tokens");
        var request = OtlpBuilder.Request("m", "1", false, Points(1));
        (await server.Anonymous().Push(null, request)).StatusCode.ShouldBe(HttpStatusCode.Unauthorized);
        (await server.Anonymous().Push("skv_unknown", request)).StatusCode.ShouldBe(HttpStatusCode.Unauthorized);
        (await server.Anonymous().Push(token, request)).StatusCode.ShouldBe(HttpStatusCode.OK);
        var list = await server.Keeper.Json("api/tokens");
        var id = (string)list.AsArray().Single(row => (string)row!["cluster"]! == "ingest-tokens")!["id"]!;
        (await server.Keeper.DeleteAsync("api/tokens/" + id)).StatusCode.ShouldBe(HttpStatusCode.NoContent);
        var refused = await server.Anonymous().Push(token, OtlpBuilder.Request("m", "1", false, [(Now.AddSeconds(-1), 1)]));
        refused.StatusCode.ShouldBe(HttpStatusCode.Unauthorized);
        (await refused.Content.ReadAsStringAsync()).ShouldContain("revoked at");
        (await Stored(cluster)).ShouldBe(1);
    }

    [Fact]
    public async Task The_token_is_nowhere_in_the_database()
    {
        var (_, token) = await server.ClusterWithToken("ingest-hash");
        await using var connection = new NpgsqlConnection(server.Database);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand("select count(*) from ingest_token where ingest_token::text like '%' || @token || '%'", connection);
        command.Parameters.AddWithValue("token", token[4..]);
        ((long)(await command.ExecuteScalarAsync())!).ShouldBe(0);
    }

    [Fact]
    public async Task What_cannot_be_read_is_400_and_too_much_is_413()
    {
        var (_, token) = await server.ClusterWithToken("ingest-broken");
        async Task<HttpStatusCode> Post(byte[] body, string type, string? encoding)
        {
            var request = new HttpRequestMessage(HttpMethod.Post, "v1/metrics") { Content = new ByteArrayContent(body) };
            request.Content.Headers.ContentType = new MediaTypeHeaderValue(type);
            if (encoding is not null)
                request.Content.Headers.ContentEncoding.Add(encoding);
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", token);
            return (await server.Anonymous().SendAsync(request)).StatusCode;
        }
        (await Post([1, 2, 3, 255], "application/x-protobuf", null)).ShouldBe(HttpStatusCode.BadRequest);
        (await Post([1, 2, 3], "application/x-protobuf", "gzip")).ShouldBe(HttpStatusCode.BadRequest);
        (await Post("{"u8.ToArray(), "application/json", null)).ShouldBe(HttpStatusCode.BadRequest);
        (await Post([], "text/plain", null)).ShouldBe(HttpStatusCode.UnsupportedMediaType);
        using var bomb = new MemoryStream();
        using (var zip = new GZipStream(bomb, CompressionLevel.Optimal, leaveOpen: true))
            zip.Write(new byte[70 << 20]);
        (await Post(bomb.ToArray(), "application/x-protobuf", "gzip")).ShouldBe(HttpStatusCode.RequestEntityTooLarge);
    }

    [Fact]
    public async Task A_reader_of_one_namespace_sees_and_is_suggested_nothing_else()
    {
        var (_, token) = await server.ClusterWithToken("ingest-scope");
        await server.Anonymous().Push(token, OtlpBuilder.Request("scoped", "1", false, Points(3), ("k8s.namespace.name", "auction")));
        await server.Anonymous().Push(token, OtlpBuilder.Request("scoped", "1", false, Points(3), ("k8s.namespace.name", "payout")));
        await server.Anonymous().Push(token, OtlpBuilder.Request("payout.only", "1", false, Points(3), ("k8s.namespace.name", "payout")));
        await server.Anonymous().Push(token, OtlpBuilder.Request("node.only", "1", false, Points(3)));
        var reader = await server.Person(Skevin.Core.Access.Roles.Reader, ["ingest-scope"], ["auction"]);
        (await reader.Json("api/ask/metrics?cluster=ingest-scope")).AsArray().Select(metric => (string)metric!["name"]!).ShouldBe(["scoped"]);
        var answer = await reader.Ask("scoped", Now.AddMinutes(-5), Now.AddMinutes(1));
        answer["steps"]![0]!["left"]!.GetValue<int>().ShouldBe(1);
        answer["series"]![0]!["labels"]!["k8s.namespace.name"]!.GetValue<string>().ShouldBe("auction");
        var fields = await reader.Json("api/ask/fields?metric=scoped&cluster=ingest-scope");
        fields.ToJsonString().ShouldNotContain("payout");
        using var wrong = await reader.PostAsync("api/ask", System.Net.Http.Json.JsonContent.Create(new { text = "payout.onl", from = Now.AddHours(-1), to = Now }));
        wrong.StatusCode.ShouldBe(HttpStatusCode.BadRequest);
        (await wrong.Content.ReadAsStringAsync()).ShouldNotContain("payout.only");
        var elsewhere = await server.Person(AllRoles, ["another"]);
        (await elsewhere.Json("api/ask/metrics")).AsArray().ShouldBeEmpty();
        (await elsewhere.GetAsync("api/clusters/ingest-scope")).StatusCode.ShouldBe(HttpStatusCode.NotFound);
    }
}
