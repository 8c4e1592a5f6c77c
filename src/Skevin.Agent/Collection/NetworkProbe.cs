using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using Skevin.Core.Clusters;

namespace Skevin.Agent.Collection;

/// <summary>Tries a name and a connection from the agent's node. Nothing is sent on it.</summary>
public sealed class NetworkProbe(AgentEnvironment environment)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(4);
    private readonly SemaphoreSlim _few = new(4);

    /// <summary>Tries one.</summary>
    /// <param name="host">Name or address.</param>
    /// <param name="port">Port; 0 looks the name up only.</param>
    /// <param name="family">IPv4 or IPv6.</param>
    /// <param name="stop">Cancels.</param>
    public async Task<ProbeAnswer> Run(string host, int port, string family, CancellationToken stop)
    {
        await _few.WaitAsync(stop);
        try
        {
            using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
            patience.CancelAfter(Patience);
            return await Try(host, port, family == Probes.V6 ? AddressFamily.InterNetworkV6 : AddressFamily.InterNetwork, patience.Token);
        }
        finally
        {
            _few.Release();
        }
    }

    private async Task<ProbeAnswer> Try(string host, int port, AddressFamily family, CancellationToken stop)
    {
        IReadOnlyList<IPAddress> addresses = [];
        double? lookUp = null;
        var watch = Stopwatch.StartNew();
        try
        {
            if (IPAddress.TryParse(host, out var given))
            {
                addresses = [given];
            }
            else
            {
                addresses = environment.Resolve is { } resolve ? await resolve(host, family, stop) : await Dns.GetHostAddressesAsync(host, family, stop);
                lookUp = watch.Elapsed.TotalMilliseconds;
                if (addresses.Count == 0)
                    return new([], lookUp, null, "the name has no address in this family");
            }
            var texts = addresses.Select(address => address.ToString()).ToArray();
            if (port == 0)
                return new(texts, lookUp, null, null);
            watch.Restart();
            await using var stream = await Connect(addresses[0], port, stop);
            return new(texts, lookUp, watch.Elapsed.TotalMilliseconds, null);
        }
        catch (Exception trouble) when (trouble is SocketException or IOException or OperationCanceledException or ArgumentException)
        {
            return new([.. addresses.Select(address => address.ToString())], lookUp, null, Words(trouble, lookedUp: addresses.Count > 0));
        }
    }

    private async Task<Stream> Connect(IPAddress address, int port, CancellationToken stop)
    {
        if (environment.Dial is { } dial)
            return await dial(address.ToString(), port, stop);
        var socket = new Socket(address.AddressFamily, SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            await socket.ConnectAsync(address, port, stop);
            return new NetworkStream(socket, ownsSocket: true);
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    private static string Words(Exception trouble, bool lookedUp) => trouble switch
    {
        SocketException { SocketErrorCode: SocketError.HostNotFound or SocketError.NoData } => "there is no such name",
        SocketException { SocketErrorCode: SocketError.TryAgain or SocketError.NoRecovery } => "the name service does not answer",
        SocketException { SocketErrorCode: SocketError.ConnectionRefused } => "refused: nothing listens on the port",
        SocketException { SocketErrorCode: SocketError.NetworkUnreachable } => "this node has no way into that network",
        SocketException { SocketErrorCode: SocketError.HostUnreachable } => "the other end cannot be reached",
        OperationCanceledException => lookedUp ? "no answer within 4 s: lost on the way, or denied by a traffic policy" : "the name service does not answer within 4 s",
        _ => trouble.Message,
    };
}
