using System.Net;
using System.Net.Http.Headers;

namespace Skevin.Agent.Buffer;

/// <summary>What became of the last push.</summary>
/// <param name="At">When.</param>
/// <param name="Status">HTTP status; 0 where there was no answer.</param>
/// <param name="Text">In words.</param>
/// <param name="NextTry">When it is tried again; null when the push was accepted.</param>
public sealed record PushState(DateTimeOffset At, int Status, string Text, DateTimeOffset? NextTry);

/// <summary>Sends sealed batches, oldest first, until the server has accepted them.</summary>
/// <param name="buffer">What waits.</param>
/// <param name="authorization">Text of the header <c>Authorization</c>, asked before every push; null for none.</param>
/// <param name="clock">The clock.</param>
/// <param name="http">Sends.</param>
/// <param name="place">Where this is sent from, for the receiver's eyes.</param>
public sealed class Sender(DiskBuffer buffer, Func<CancellationToken, Task<string?>> authorization, TimeProvider clock, HttpClient http, string place = "")
{
    private static readonly TimeSpan LongestPause = TimeSpan.FromSeconds(15);
    private TimeSpan _pause = TimeSpan.Zero;

    /// <summary>The last push.</summary>
    public PushState? Last { get; private set; }

    /// <summary>A batch was accepted, or rejected for good and given up.</summary>
    public event Action<SealedBatch, bool>? Done;

    /// <summary>Sends what is waiting, unless a pause after a failure is running.</summary>
    public async Task SendPending(string server, CancellationToken stop)
    {
        while (!stop.IsCancellationRequested && buffer.Oldest is { } batch)
        {
            if (Last?.NextTry is { } next && clock.GetUtcNow() < next)
                return;
            if (!await Send(server, batch, stop))
                return;
        }
    }

    // 4xx other than 401, 403, 408, 429 say that this batch will never be taken. Source: OTLP specification, "Failures".
    private async Task<bool> Send(string server, SealedBatch batch, CancellationToken stop)
    {
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, $"{server.TrimEnd('/')}/v1/{batch.Signal}");
            request.Content = new ByteArrayContent(await batch.Body(stop));
            request.Content.Headers.ContentType = new MediaTypeHeaderValue(batch.Signal == "flows" ? "application/ipfix" : "application/x-protobuf");
            request.Content.Headers.ContentEncoding.Add("gzip");
            if (await authorization(stop) is { Length: > 0 } header)
                request.Headers.TryAddWithoutValidation("Authorization", header);
            request.Headers.Add("Idempotency-Key", batch.Key);
            request.Headers.Date = clock.GetUtcNow();
            request.Headers.TryAddWithoutValidation("User-Agent", place.Length > 0 ? $"skevin-agent ({place})" : "skevin-agent");
            using var answer = await http.SendAsync(request, stop);
            var status = (int)answer.StatusCode;
            if (answer.IsSuccessStatusCode)
            {
                buffer.Remove(batch);
                Done?.Invoke(batch, true);
                _pause = TimeSpan.Zero;
                Last = new PushState(clock.GetUtcNow(), status, "accepted", null);
                return true;
            }
            var retry = answer.StatusCode is HttpStatusCode.Unauthorized or HttpStatusCode.Forbidden or HttpStatusCode.RequestTimeout
                or HttpStatusCode.TooManyRequests || status >= 500;
            if (!retry)
            {
                buffer.Remove(batch);
                Done?.Invoke(batch, false);
                Last = new PushState(clock.GetUtcNow(), status, "rejected for good: " + await Short(answer, stop), null);
                return true;
            }
            Pause(status, await Short(answer, stop), answer.Headers.RetryAfter?.Delta);
        }
        catch (Exception trouble) when (trouble is HttpRequestException or IOException || (trouble is OperationCanceledException && !stop.IsCancellationRequested))
        {
            Pause(0, trouble.Message, null);
        }
        catch (OperationCanceledException)
        {
            // Stopping; the batch stays.
        }
        return false;
    }

    private void Pause(int status, string text, TimeSpan? asked)
    {
        _pause = _pause == TimeSpan.Zero ? TimeSpan.FromSeconds(1) : TimeSpan.FromTicks(Math.Min(_pause.Ticks * 2, LongestPause.Ticks));
        var wait = asked ?? _pause;
        Last = new PushState(clock.GetUtcNow(), status, text, clock.GetUtcNow() + wait);
    }

    private static async Task<string> Short(HttpResponseMessage answer, CancellationToken stop)
    {
        var text = await answer.Content.ReadAsStringAsync(stop);
        return text.Length <= 300 ? text : text[..300];
    }
}
