using System.Net;
using System.Net.Sockets;
using Skevin.Core.Formats.Ipfix;
using Skevin.Core.Traffic;

namespace Skevin.StandIn.Telemetry;

/// <summary>
/// A node's flow exporter: IPFIX over TCP to the agent on its node. Templates are sent at the begin of a connection and again every
/// hundred messages. TCP does not say what the other side has put away, so after a broken connection the last messages are repeated
/// as they were; the collector knows them by their sequence numbers. Source: RFC 7011 sections 8 and 10.4.
/// </summary>
public sealed class FlowExporter(string node, uint domain, ClusterTelemetry telemetry, Func<string, int?> agentOn, TimeProvider clock) : IDisposable
{
    private const int MessagesPerTemplate = 100;
    private const int Repeated = 400;
    private const int LongestMessage = 60_000;

    private readonly Queue<byte[]> _sent = new();
    private TcpClient? _connection;
    private int _port;
    private uint _sequence;
    private long _lastTime;
    private int _sinceTemplates;

    /// <summary>Messages given to the connection since it was opened, repeated ones included.</summary>
    public long Messages { get; private set; }

    /// <summary>Sends what is waiting, connecting where there is no connection.</summary>
    public async Task Flush(CancellationToken stop)
    {
        if (agentOn(node) is not { } port)
        {
            Close();
            return;
        }
        try
        {
            if (_connection is null || port != _port || Gone(_connection))
                await Connect(port, stop);
            var flows = telemetry.TakeFlows(node);
            for (var at = 0; at < flows.Count;)
            {
                var message = Write(flows, ref at);
                _sent.Enqueue(message);
                if (_sent.Count > Repeated)
                    _sent.Dequeue();
                await Send(message, stop);
            }
        }
        catch (Exception away) when (away is SocketException or IOException)
        {
            Close();
        }
    }

    /// <inheritdoc/>
    public void Dispose() => Close();

    private async Task Connect(int port, CancellationToken stop)
    {
        Close();
        var connection = new TcpClient { NoDelay = true };
        await connection.ConnectAsync(IPAddress.Loopback, port, stop);
        (_connection, _port, Messages, _sinceTemplates) = (connection, port, 0, 0);
        await Send(Templates(), stop);
        foreach (var message in _sent)
            await Send(message, stop);
    }

    private byte[] Templates()
    {
        var writer = new IpfixWriter();
        writer.Template(FlowIpfix.V4);
        writer.Template(FlowIpfix.V6);
        return writer.Finish((uint)clock.GetUtcNow().ToUnixTimeSeconds(), _sequence, domain);
    }

    private byte[] Write(List<FlowRecord> flows, ref int at)
    {
        var writer = new IpfixWriter();
        if (++_sinceTemplates >= MessagesPerTemplate)
        {
            writer.Template(FlowIpfix.V4);
            writer.Template(FlowIpfix.V6);
            _sinceTemplates = 0;
        }
        var first = at;
        while (at < flows.Count && writer.Length < LongestMessage)
            FlowIpfix.Write(writer, flows[at++]);
        // Export times never fall, so that time and sequence number together only rise.
        _lastTime = Math.Max(_lastTime, clock.GetUtcNow().ToUnixTimeSeconds());
        var message = writer.Finish((uint)_lastTime, _sequence, domain);
        _sequence += (uint)(at - first);
        return message;
    }

    private async Task Send(byte[] message, CancellationToken stop)
    {
        await _connection!.GetStream().WriteAsync(message, stop);
        Messages++;
    }

    private static bool Gone(TcpClient connection) => connection.Client.Poll(0, SelectMode.SelectRead) && connection.Client.Available == 0;

    private void Close()
    {
        _connection?.Dispose();
        _connection = null;
    }
}
