using System.Text.Json.Nodes;
using MailKit.Net.Smtp;
using MailKit.Security;
using MimeKit;
using Skevin.Core.Alarms.Telling;
using Skevin.Server.Setup;

namespace Skevin.Server.Alarms.Telling;

/// <summary>Sends messages by mail through the server that <c>SKEVIN_SMTP</c> names.</summary>
public sealed class SendMail(SkevinOptions options)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

    /// <summary>How the address of such a contact begins.</summary>
    public const string Scheme = "mailto:";

    /// <summary>Whether there is a mail server.</summary>
    public bool Possible => options.Smtp is not null;

    /// <summary>Sends one mail about one or several messages.</summary>
    /// <param name="to">The address, with its scheme.</param>
    /// <param name="id">The same in each repeat; it becomes the Message-ID, by which a mail program knows a repeat.</param>
    /// <param name="messages">Their bodies.</param>
    /// <param name="stop">Cancels.</param>
    /// <returns>Why it was not taken; null where it was.</returns>
    public async Task<string?> Run(string to, Guid id, IReadOnlyList<JsonNode> messages, CancellationToken stop)
    {
        if (options.Smtp is not { } server)
            return "no mail server is set (SKEVIN_SMTP)";
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
        patience.CancelAfter(Patience);
        try
        {
            var mail = new MimeMessage();
            var from = MailboxAddress.Parse(options.MailFrom ?? $"skevin@{new Uri(options.Address).Host}");
            mail.From.Add(from);
            mail.To.Add(MailboxAddress.Parse(to[Scheme.Length..]));
            mail.MessageId = $"{id:N}@{from.Domain}";
            mail.Subject = messages.Count == 1 ? HookTemplate.Line(messages[0]) : $"{messages.Count} alarms: {HookTemplate.Line(messages[0])}";
            var runbooks = messages.Select(message => (string?)message["runbook"]).OfType<string>().Distinct().Select(book => $"Runbook: {book}");
            mail.Body = new TextPart("plain") { Text = string.Join("\r\n", messages.Select(HookTemplate.Line).Append("").Concat(runbooks).Append($"Alarms: {options.Address}/alarms")) + "\r\n" };
            using var client = new SmtpClient { Timeout = (int)Patience.TotalMilliseconds };
            var secure = server.Scheme == "smtps";
            await client.ConnectAsync(server.Host, server.Port > 0 ? server.Port : secure ? 465 : 587, secure ? SecureSocketOptions.SslOnConnect : server.IsLoopback ? SecureSocketOptions.None : SecureSocketOptions.StartTls, patience.Token);
            if (server.UserInfo.Split(':', 2) is [var name, var password])
                await client.AuthenticateAsync(Uri.UnescapeDataString(name), Uri.UnescapeDataString(password), patience.Token);
            await client.SendAsync(mail, patience.Token);
            await client.DisconnectAsync(true, patience.Token);
            return null;
        }
        catch (OperationCanceledException) when (!stop.IsCancellationRequested)
        {
            return $"the mail server did not answer within {Patience.TotalSeconds:0} s";
        }
        catch (Exception trouble) when (trouble is SmtpCommandException or SmtpProtocolException or AuthenticationException or SslHandshakeException or MailKit.ServiceNotConnectedException or System.Net.Sockets.SocketException or IOException or ParseException or NotSupportedException)
        {
            return "the mail server: " + trouble.Message.Split('\n')[0].Trim();
        }
    }
}
