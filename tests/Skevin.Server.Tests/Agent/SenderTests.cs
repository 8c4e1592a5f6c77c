using System.Net;
using Microsoft.Extensions.Time.Testing;
using Skevin.Agent.Buffer;

namespace Skevin.Server.Tests.Agent;

public sealed class SenderTests
{
    private sealed class Scripted(Func<HttpRequestMessage, HttpResponseMessage> answer) : HttpMessageHandler
    {
        public List<string> Keys { get; } = [];

        protected override Task<HttpResponseMessage> SendAsync(HttpRequestMessage request, CancellationToken cancellationToken)
        {
            Keys.Add(request.Headers.GetValues("Idempotency-Key").Single());
            return Task.FromResult(answer(request));
        }
    }

    private readonly FakeTimeProvider _clock = new(DateTimeOffset.Parse("2026-11-24T08:00:00Z"));
    private readonly string _folder = Directory.CreateTempSubdirectory("skevin-sender").FullName;

    private (Sender Sender, DiskBuffer Buffer, Scripted Server) Make(Func<HttpRequestMessage, HttpResponseMessage> answer)
    {
        var buffer = new DiskBuffer(Path.Combine(_folder, "buffer"));
        var server = new Scripted(answer);
        File.WriteAllText(Path.Combine(_folder, "token"), "first\n");
        return (new Sender(buffer, async stop => "Bearer " + (await File.ReadAllTextAsync(Path.Combine(_folder, "token"), stop)).Trim(), _clock, new HttpClient(server)), buffer, server);
    }

    private static HttpResponseMessage Status(HttpStatusCode code) => new(code) { Content = new StringContent("words") };

    [Fact]
    public async Task Batches_go_oldest_first_each_with_its_own_key()
    {
        var (sender, buffer, server) = Make(_ => Status(HttpStatusCode.OK));
        var batches = Enumerable.Range(0, 3).Select(_ => buffer.Seal("metrics", "x"u8, [])).ToArray();
        await sender.SendPending("http://server", CancellationToken.None);
        server.Keys.ShouldBe(batches.Select(batch => batch.Key));
        buffer.Count.ShouldBe(0);
    }

    [Theory]
    [InlineData(HttpStatusCode.Unauthorized)]
    [InlineData(HttpStatusCode.ServiceUnavailable)]
    [InlineData(HttpStatusCode.TooManyRequests)]
    public async Task What_may_be_taken_later_is_kept_and_tried_again_after_growing_pauses(HttpStatusCode code)
    {
        var refuse = true;
        var (sender, buffer, server) = Make(_ => Status(refuse ? code : HttpStatusCode.OK));
        var batch = buffer.Seal("metrics", "x"u8, []);
        await sender.SendPending("http://server", CancellationToken.None);
        await sender.SendPending("http://server", CancellationToken.None);
        server.Keys.Count.ShouldBe(1);
        sender.Last!.Status.ShouldBe((int)code);
        foreach (var pause in new[] { 1, 2, 4, 8, 15, 15 })
        {
            (sender.Last!.NextTry - _clock.GetUtcNow()).ShouldBe(TimeSpan.FromSeconds(pause));
            _clock.Advance(TimeSpan.FromSeconds(pause));
            await sender.SendPending("http://server", CancellationToken.None);
        }
        buffer.Oldest.ShouldBe(batch);
        refuse = false;
        _clock.Advance(TimeSpan.FromSeconds(15));
        await sender.SendPending("http://server", CancellationToken.None);
        buffer.Count.ShouldBe(0);
        server.Keys.Distinct().ShouldHaveSingleItem();
    }

    [Fact]
    public async Task Retry_After_is_obeyed()
    {
        // OTLP specification, "OTLP/HTTP Throttling".
        var (sender, buffer, _) = Make(_ =>
        {
            var answer = Status(HttpStatusCode.ServiceUnavailable);
            answer.Headers.RetryAfter = new(TimeSpan.FromSeconds(42));
            return answer;
        });
        buffer.Seal("metrics", "x"u8, []);
        await sender.SendPending("http://server", CancellationToken.None);
        (sender.Last!.NextTry - _clock.GetUtcNow()).ShouldBe(TimeSpan.FromSeconds(42));
    }

    [Fact]
    public async Task What_will_never_be_taken_is_given_up_and_counted()
    {
        // OTLP specification, "Failures": 400 is not to be sent again.
        var (sender, buffer, _) = Make(_ => Status(HttpStatusCode.BadRequest));
        var given = new List<bool>();
        sender.Done += (_, accepted) => given.Add(accepted);
        buffer.Seal("metrics", "x"u8, []);
        buffer.Seal("metrics", "y"u8, []);
        await sender.SendPending("http://server", CancellationToken.None);
        buffer.Count.ShouldBe(0);
        given.ShouldBe([false, false]);
    }

    [Fact]
    public async Task A_new_token_in_the_file_is_used_for_the_next_push()
    {
        var seen = new List<string>();
        var (sender, buffer, _) = Make(request =>
        {
            seen.Add(request.Headers.Authorization!.Parameter!);
            return Status(seen[^1] == "second" ? HttpStatusCode.OK : HttpStatusCode.Unauthorized);
        });
        buffer.Seal("metrics", "x"u8, []);
        await sender.SendPending("http://server", CancellationToken.None);
        await File.WriteAllTextAsync(Path.Combine(_folder, "token"), "second");
        _clock.Advance(TimeSpan.FromSeconds(1));
        await sender.SendPending("http://server", CancellationToken.None);
        seen.ShouldBe(["first", "second"]);
        buffer.Count.ShouldBe(0);
    }
}
