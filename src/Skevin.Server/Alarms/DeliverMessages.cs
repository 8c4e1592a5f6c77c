using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Alarms.Telling;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Alarms;

/// <summary>What became of a message that was posted.</summary>
/// <param name="Error">Why it was not taken; null where it was.</param>
/// <param name="Milliseconds">How long it took.</param>
public sealed record Posted(string? Error, double Milliseconds);

/// <summary>Posts waiting messages, at least once each, with a stable id. Those to one contact that wait together are sent as one.</summary>
public sealed class DeliverMessages(IDbContextFactory<SkevinContext> contexts, IHttpClientFactory clients, IDataProtectionProvider protection, Telling.SendMail mail, SkevinOptions options, TimeProvider clock)
{
    /// <summary>Failed attempts after which a contact is taken for one that cannot be told.</summary>
    public const int Unreachable = 3;

    private const int MostAttempts = 200;
    private static readonly TimeSpan LongestPause = TimeSpan.FromMinutes(5);
    private readonly IDataProtector _protector = protection.CreateProtector("contact");

    /// <summary>Encrypts a contact's secret.</summary>
    public string Protect(string secret) => _protector.Protect(secret);

    /// <summary>Sends what is due.</summary>
    public async Task Run(CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var now = clock.GetUtcNow();
        var due = await context.Messages.Where(message => message.DeliveredAt == null && message.NextTry <= now && message.Attempts < MostAttempts)
            .OrderBy(message => message.CreatedAt).Take(200).ToListAsync(stop);
        if (due.Count == 0)
            return;
        // The id under which they go together is kept before they go: a repeat carries the same one.
        foreach (var fresh in due.Where(message => message.GroupId is null).GroupBy(message => (message.Contact, message.Url)))
        {
            var group = fresh.Count() == 1 ? fresh.First().Id : Guid.CreateVersion7();
            foreach (var message in fresh)
                message.GroupId = group;
        }
        await context.SaveChangesAsync(stop);
        var contacts = await context.Contacts.AsNoTracking().ToDictionaryAsync(contact => contact.Name, stop);
        foreach (var group in due.GroupBy(message => message.GroupId!.Value))
        {
            var messages = group.ToArray();
            var error = (await Send(messages[0].Url, group.Key, [.. messages.Select(message => message.Body)], contacts.GetValueOrDefault(messages[0].Contact), stop)).Error;
            OwnMetrics.Tried(error is null);
            var attempts = messages.Max(message => message.Attempts) + 1;
            foreach (var message in messages)
            {
                (message.Attempts, message.LastError) = (attempts, error);
                if (error is null)
                    message.DeliveredAt = clock.GetUtcNow();
                else
                    message.NextTry = clock.GetUtcNow() + TimeSpan.FromSeconds(Math.Min(LongestPause.TotalSeconds, Math.Pow(2, Math.Min(attempts, 12))));
            }
            if (attempts == Unreachable && error is not null)
                await TellOthers(context, messages[0], error, stop);
            await context.SaveChangesAsync(stop);
        }
    }

    /// <summary>Posts something to a contact now, to see whether it takes it.</summary>
    public Task<Posted> Try(ContactRow contact, CancellationToken stop)
    {
        var id = Guid.CreateVersion7();
        return Send(contact.Url, id, [new JsonObject { ["id"] = id.ToString(), ["test"] = true, ["rule"] = "A test message", ["transition"] = "test", ["at"] = clock.GetUtcNow().ToString("O", System.Globalization.CultureInfo.InvariantCulture) }.ToJsonString()], contact, stop);
    }

    // Somebody whom nothing reaches does not know it; everybody else is told, once for each time it begins.
    private async Task TellOthers(SkevinContext context, MessageRow failed, string error, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var began = await context.Messages.Where(message => message.Contact == failed.Contact && message.DeliveredAt != null).MaxAsync(message => message.DeliveredAt, stop) ?? DateTimeOffset.MinValue;
        if (await context.Messages.AnyAsync(message => message.EventId == Guid.Empty && message.Team == failed.Contact && message.CreatedAt > began, stop))
            return;
        foreach (var other in await context.Contacts.AsNoTracking().Where(contact => contact.Name != failed.Contact).ToListAsync(stop))
        {
            var id = Guid.CreateVersion7();
            context.Messages.Add(new MessageRow
            {
                Id = id, EventId = Guid.Empty, AlarmId = Guid.CreateVersion7(), Contact = other.Name, Url = other.Url, Team = failed.Contact, CreatedAt = now, NextTry = now,
                Body = new JsonObject { ["id"] = id.ToString(), ["rule"] = $"{failed.Contact} cannot be told", ["transition"] = "raised", ["severity"] = "major", ["contact"] = failed.Contact, ["error"] = error, ["at"] = now.ToString("O", System.Globalization.CultureInfo.InvariantCulture) }.ToJsonString(),
            });
        }
    }

    private async Task<Posted> Send(string url, Guid group, string[] bodies, ContactRow? contact, CancellationToken stop)
    {
        var began = System.Diagnostics.Stopwatch.GetTimestamp();
        JsonNode[] Read() => [.. bodies.Select(body => JsonNode.Parse(body)!)];
        if (url.StartsWith(Telling.SendMail.Scheme, StringComparison.OrdinalIgnoreCase))
            return new(await mail.Run(url, group, Read(), stop), System.Diagnostics.Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        return await Post(url, group, contact?.Template is { } template ? HookTemplate.Fill(template, HookTemplate.Texts(group.ToString(), Read(), options.Address + "/alarms"))
            : bodies.Length == 1 ? bodies[0] : new JsonObject { ["id"] = group.ToString(), ["messages"] = new JsonArray(Read()) }.ToJsonString(), contact?.ProtectedSecret, stop);
    }

    private async Task<Posted> Post(string url, Guid id, string body, string? secret, CancellationToken stop)
    {
        var began = System.Diagnostics.Stopwatch.GetTimestamp();
        Posted Done(string? error) => new(error, System.Diagnostics.Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        try
        {
            using var client = clients.CreateClient("messages");
            using var request = new HttpRequestMessage(HttpMethod.Post, url);
            request.Content = new StringContent(body, Encoding.UTF8, new MediaTypeHeaderValue("application/json"));
            request.Headers.Add("Idempotency-Key", id.ToString());
            var seconds = clock.GetUtcNow().ToUnixTimeSeconds();
            request.Headers.Add(HookSignature.Id, id.ToString());
            request.Headers.Add(HookSignature.Timestamp, seconds.ToString(System.Globalization.CultureInfo.InvariantCulture));
            if (secret is not null)
                request.Headers.Add(HookSignature.Signature, HookSignature.Sign(_protector.Unprotect(secret), id.ToString(), seconds, body));
            using var answer = await client.SendAsync(request, stop);
            return Done(answer.IsSuccessStatusCode ? null : $"answered {(int)answer.StatusCode}");
        }
        catch (Exception trouble) when (trouble is HttpRequestException or UriFormatException or InvalidOperationException or NotSupportedException
            || (trouble is OperationCanceledException && !stop.IsCancellationRequested))
        {
            return Done(trouble is OperationCanceledException ? "no answer within 10 s" : trouble.Message);
        }
    }
}
