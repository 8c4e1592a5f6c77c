using System.Net;
using System.Net.Sockets;
using OpenTelemetry.Proto.Logs.V1;
using OpenTelemetry.Proto.Resource.V1;
using Skevin.Agent.Collection;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Formats.Syslog;

namespace Skevin.Agent.Receivers;

/// <summary>
/// Takes syslog of machines near by, over UDP and TCP. Nothing is answered, as the protocol has it: what is waiting when the agent is killed is lost. Sources: RFC 5424, RFC 5426, RFC 6587.
/// </summary>
public sealed class SyslogReceiver(AgentEnvironment environment) : IAsyncDisposable
{
    private const int MostWaiting = 50_000;
    private static readonly TimeSpan StrangeFor = TimeSpan.FromMinutes(1);

    private readonly Lock _lock = new();
    private readonly CancellationTokenSource _stop = new();
    private readonly List<(SyslogMessage Message, string Sender, long Seen)> _waiting = [];
    private UdpClient? _udp;
    private TcpListener? _tcp;
    private Task[] _running = [];
    private (string Why, DateTimeOffset At)? _strange;

    /// <summary>Port it listens on; 0 while it does not.</summary>
    public int Port => (_tcp?.LocalEndpoint as IPEndPoint)?.Port ?? 0;

    /// <summary>Messages that were dropped, because too many waited.</summary>
    public long Dropped { get; private set; }

    /// <summary>What could not be read in the last minute; null where all could be.</summary>
    public string? Error => _strange is { } strange && environment.Clock.GetUtcNow() - strange.At < StrangeFor ? strange.Why : null;

    /// <summary>Listens, or ceases to.</summary>
    public async Task Listen(bool on)
    {
        if (on == (_running.Length > 0))
            return;
        if (!on)
        {
            await Close();
            return;
        }
        var listener = _tcp = new TcpListener(environment.Listen, environment.SyslogPort);
        _tcp.Start();
        _udp = new UdpClient(new IPEndPoint(environment.Listen, Port));
        _running = [Task.Run(Datagrams), Task.Run(() => Connections.Accept(listener, Serve, _stop.Token))];
    }

    /// <summary>Takes out what is waiting, by whose it is.</summary>
    public (IReadOnlyList<ResourceLogs> Records, int Count)? Take(string source)
    {
        (SyslogMessage Message, string Sender, long Seen)[] taken;
        lock (_lock)
        {
            if (_waiting.Count == 0)
                return null;
            taken = [.. _waiting];
            _waiting.Clear();
        }
        var logs = taken.GroupBy(one => (one.Message.Host, one.Message.App, one.Sender)).Select(group =>
        {
            var resource = new ResourceLogs { Resource = new Resource() };
            OtlpAttributes.Write(resource.Resource.Attributes, SyslogLogs.Resource(group.First().Message, group.Key.Sender));
            var scope = LogBatch.Scope(source);
            scope.LogRecords.AddRange(group.Select(one => SyslogLogs.Record(one.Message, one.Seen)));
            resource.ScopeLogs.Add(scope);
            return resource;
        });
        return ([.. logs], taken.Length);
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        await Close();
        _stop.Dispose();
    }

    private async Task Close()
    {
        _tcp?.Stop();
        _udp?.Dispose();
        await Task.WhenAll(_running);
        (_running, _tcp, _udp) = ([], null, null);
    }

    private async Task Datagrams()
    {
        try
        {
            while (true)
            {
                var came = await _udp!.ReceiveAsync(_stop.Token);
                Put(came.Buffer, Words(came.RemoteEndPoint));
            }
        }
        catch (Exception ended) when (ended is OperationCanceledException or SocketException or ObjectDisposedException)
        {
            // Stopping.
        }
    }

    private async Task Serve(TcpClient client)
    {
        var (framing, sender, buffer) = (new SyslogFraming(), Words(client.Client.RemoteEndPoint), new byte[16 * 1024]);
        try
        {
            using var _ = client;
            var stream = client.GetStream();
            for (int count; (count = await stream.ReadAsync(buffer, _stop.Token)) > 0;)
            {
                foreach (var message in framing.Take(buffer.AsSpan(0, count)))
                    Put(message, sender);
                // A sender that sends more than can be sealed is held up by TCP itself.
                while (Waiting > MostWaiting / 2)
                    await Task.Delay(50, _stop.Token);
            }
        }
        catch (FormatException broken)
        {
            Strange(sender, broken.Message);
        }
        catch (Exception ended) when (ended is IOException or OperationCanceledException or SocketException)
        {
            // The sender went away, or the agent stops.
        }
    }

    private int Waiting
    {
        get
        {
            lock (_lock)
                return _waiting.Count;
        }
    }

    private void Put(ReadOnlySpan<byte> bytes, string sender)
    {
        SyslogMessage message;
        try
        {
            message = SyslogMessage.Read(bytes);
        }
        catch (FormatException broken)
        {
            Strange(sender, broken.Message);
            // What it says is kept all the same: an older form, or none.
            message = new(1, 5, null, null, null, null, null, [new("skevin.unread", broken.Message)], System.Text.Encoding.UTF8.GetString(bytes).TrimEnd('\r', '\n', '\0'));
        }
        var seen = environment.Clock.GetUtcNow().ToUnixTimeMilliseconds() * 1_000_000;
        lock (_lock)
        {
            if (_waiting.Count >= MostWaiting)
                Dropped++;
            else
                _waiting.Add((message, sender, seen));
        }
    }

    private void Strange(string sender, string why) => _strange = ($"messages of {sender} are not of RFC 5424: {why}; they are kept as plain text", environment.Clock.GetUtcNow());

    private static string Words(EndPoint? end) => end is IPEndPoint at ? (at.Address.IsIPv4MappedToIPv6 ? at.Address.MapToIPv4() : at.Address).ToString() : "";
}
