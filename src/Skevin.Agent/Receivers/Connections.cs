using System.Net.Sockets;

namespace Skevin.Agent.Receivers;

/// <summary>Takes connections in.</summary>
internal static class Connections
{
    private const int Most = 64;

    /// <summary>
    /// Accepts until it is stopped or the listener is closed, no more than some dozens at once; more are closed at once. Where it is stopped, the connections have ended when it returns; where only
    /// the listener was closed, they go on until their other end closes them.
    /// </summary>
    public static async Task Accept(TcpListener listener, Func<TcpClient, Task> serve, CancellationToken stop)
    {
        var open = new List<Task>();
        try
        {
            while (true)
            {
                var client = await listener.AcceptTcpClientAsync(stop);
                open.RemoveAll(task => task.IsCompleted);
                if (open.Count < Most)
                    open.Add(Task.Run(() => serve(client), CancellationToken.None));
                else
                    client.Dispose();
            }
        }
        catch (Exception ended) when (ended is OperationCanceledException or SocketException or ObjectDisposedException or InvalidOperationException)
        {
            if (stop.IsCancellationRequested)
                await Task.WhenAll(open);
        }
    }
}
