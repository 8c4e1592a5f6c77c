using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace Skevin.Server.Tests;

/// <summary>A mail server that keeps what it is given. Source: RFC 5321, the commands a client needs to hand one mail over.</summary>
public sealed class MailSink : IAsyncDisposable
{
    private readonly TcpListener _listener;
    private readonly CancellationTokenSource _stop = new();

    public MailSink(int port)
    {
        _listener = new TcpListener(IPAddress.Loopback, port);
        _listener.Start();
        _ = Accept();
    }

    /// <summary>Mails as they came.</summary>
    public ConcurrentQueue<string> Mails { get; } = new();

    /// <summary>Answer to the end of a mail; for example <c>452 full</c>.</summary>
    public string Answer { get; set; } = "250 kept";

    private async Task Accept()
    {
        while (!_stop.IsCancellationRequested)
            try
            {
                _ = Serve(await _listener.AcceptTcpClientAsync(_stop.Token));
            }
            catch (Exception over) when (over is OperationCanceledException or SocketException)
            {
                return;
            }
    }

    private async Task Serve(TcpClient client)
    {
        using var owned = client;
        using var reader = new StreamReader(client.GetStream(), Encoding.UTF8);
        await using var writer = new StreamWriter(client.GetStream(), new UTF8Encoding(false)) { NewLine = "\r\n", AutoFlush = true };
        await writer.WriteLineAsync("220 sink");
        while (await reader.ReadLineAsync() is { } line)
        {
            if (line.StartsWith("DATA", StringComparison.OrdinalIgnoreCase))
            {
                await writer.WriteLineAsync("354 go on");
                var mail = new StringBuilder();
                while (await reader.ReadLineAsync() is { } text && text != ".")
                    mail.Append(text).Append('\n');
                if (Answer.StartsWith('2'))
                    Mails.Enqueue(mail.ToString());
                await writer.WriteLineAsync(Answer);
            }
            else if (line.StartsWith("QUIT", StringComparison.OrdinalIgnoreCase))
            {
                await writer.WriteLineAsync("221 bye");
                return;
            }
            else
            {
                await writer.WriteLineAsync("250 sink");
            }
        }
    }

    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        _listener.Dispose();
    }
}
