using System.Globalization;
using System.Net.Sockets;
using System.Text;

namespace Skevin.StandIn.Telemetry;

/// <summary>
/// The machines in the halls: scales, doors and a switch, which speak nothing but syslog. Each sends to one node, over UDP or over TCP, when its agent listens.
/// </summary>
/// <param name="nodes">The nodes.</param>
/// <param name="agentOn">Loopback port for syslog on a node; null while none is taken there.</param>
/// <param name="clock">The model's time.</param>
public sealed class SyslogSender(IReadOnlyList<string> nodes, Func<string, int?> agentOn, TimeProvider clock) : IDisposable
{
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(4);

    private static readonly (string Host, string App, bool Tcp, (int Severity, string Id, string Data, string Text)[] Says)[] Machines =
    [
        ("scale-3", "weigher", false, [(6, "WEIGH", "[weight@32473 kg=\"{n}\" crates=\"16\"]", "crates weighed"), (4, "ZERO", "-", "zero drifted by {n} g, calibrated anew")]),
        ("dock-door-7", "doord", false, [(6, "OPEN", "-", "door opened for {n} s"), (5, "SEAL", "-", "seal at 21.{n} N")]),
        ("hall-switch-1", "ports", true, [(6, "LINK", "[port@32473 name=\"ge-0/{n}\"]", "link up"), (3, "LINK", "[port@32473 name=\"ge-0/{n}\"]", "link lost")]),
    ];

    private readonly UdpClient _udp = new();
    private readonly Dictionary<string, TcpClient> _tcp = [];
    private readonly Random _random = new(nodes.Count);
    private DateTimeOffset _next;

    /// <summary>Sends what is due.</summary>
    public async Task Flush(CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        if (now < _next)
            return;
        _next = now + Every;
        foreach (var (i, machine) in Machines.Index())
            if (nodes.Count > 0 && agentOn(nodes[i % nodes.Count]) is { } port)
                await Send(machine, port, now, stop);
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        _udp.Dispose();
        foreach (var connection in _tcp.Values)
            connection.Dispose();
    }

    private async Task Send((string Host, string App, bool Tcp, (int Severity, string Id, string Data, string Text)[] Says) machine, int port, DateTimeOffset now, CancellationToken stop)
    {
        // The second thing is said now and then.
        var (severity, id, data, text) = machine.Says[_random.Next(12) == 0 ? 1 : 0];
        var number = _random.Next(3, 48).ToString(CultureInfo.InvariantCulture);
        var bytes = Encoding.UTF8.GetBytes(string.Create(CultureInfo.InvariantCulture,
            $"<{20 * 8 + severity}>1 {now.UtcDateTime:yyyy-MM-ddTHH:mm:ss.fffZ} {machine.Host} {machine.App} 41 {id} {data.Replace("{n}", number)} {text.Replace("{n}", number)}"));
        try
        {
            if (!machine.Tcp)
            {
                await _udp.SendAsync(bytes, "127.0.0.1", port, stop);
                return;
            }
            if (!_tcp.TryGetValue(machine.Host, out var connection) || !connection.Connected)
            {
                connection?.Dispose();
                _tcp[machine.Host] = connection = new TcpClient();
                await connection.ConnectAsync("127.0.0.1", port, stop);
            }
            await connection.GetStream().WriteAsync(Encoding.ASCII.GetBytes(bytes.Length.ToString(CultureInfo.InvariantCulture) + " ").Concat(bytes).ToArray(), stop);
        }
        catch (Exception away) when (away is SocketException or IOException)
        {
            if (_tcp.Remove(machine.Host, out var broken))
                broken.Dispose();
        }
    }
}
