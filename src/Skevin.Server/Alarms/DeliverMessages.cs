using System.Net.Http.Headers;
using System.Text;
using Microsoft.EntityFrameworkCore;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Alarms;

/// <summary>Posts waiting messages, at least once each, with a stable id.</summary>
public sealed class DeliverMessages(IDbContextFactory<SkevinContext> contexts, IHttpClientFactory clients, TimeProvider clock)
{
    private const int MostAttempts = 200;
    private static readonly TimeSpan LongestPause = TimeSpan.FromMinutes(5);

    /// <summary>Sends what is due.</summary>
    public async Task Run(CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var now = clock.GetUtcNow();
        var due = await context.Messages.Where(message => message.DeliveredAt == null && message.NextTry <= now && message.Attempts < MostAttempts)
            .OrderBy(message => message.CreatedAt).Take(20).ToListAsync(stop);
        foreach (var message in due)
        {
            message.Attempts++;
            message.LastError = await Post(message, stop);
            OwnMetrics.Tried(message.LastError is null);
            if (message.LastError is null)
                message.DeliveredAt = clock.GetUtcNow();
            else
                message.NextTry = clock.GetUtcNow() + TimeSpan.FromSeconds(Math.Min(LongestPause.TotalSeconds, Math.Pow(2, Math.Min(message.Attempts, 12))));
            await context.SaveChangesAsync(stop);
        }
    }

    private async Task<string?> Post(MessageRow message, CancellationToken stop)
    {
        try
        {
            using var client = clients.CreateClient("messages");
            using var request = new HttpRequestMessage(HttpMethod.Post, message.Url);
            request.Content = new StringContent(message.Body, Encoding.UTF8, new MediaTypeHeaderValue("application/json"));
            request.Headers.Add("Idempotency-Key", message.Id.ToString());
            using var answer = await client.SendAsync(request, stop);
            return answer.IsSuccessStatusCode ? null : $"answered {(int)answer.StatusCode}";
        }
        catch (Exception trouble) when (trouble is HttpRequestException or UriFormatException or InvalidOperationException or NotSupportedException
            || (trouble is OperationCanceledException && !stop.IsCancellationRequested))
        {
            return trouble is OperationCanceledException ? "no answer within 10 s" : trouble.Message;
        }
    }
}
