using System.Net;
using System.Net.Sockets;
using System.Text;
using Skevin.Core.Dashboards;
using Skevin.Server.Setup;

namespace Skevin.Server.Dashboards;

/// <summary>Fetches the file of a sheet from an address somebody gives.</summary>
public sealed class FetchSheet(IHttpClientFactory clients)
{
    /// <summary>Name of its HTTP client.</summary>
    public const string Client = "sheets";

    /// <summary>A handler that follows no redirect and reaches no address that is this machine's own business.</summary>
    /// <param name="loopback">Whether this machine may be asked: in the demo everything stands on it.</param>
    public static SocketsHttpHandler Handler(bool loopback) => new()
    {
        AllowAutoRedirect = false, UseProxy = false,
        // Looked at after the name was resolved: a name may lead anywhere.
        ConnectCallback = async (context, stop) =>
        {
            var addresses = await Dns.GetHostAddressesAsync(context.DnsEndPoint.Host, stop);
            if (addresses.FirstOrDefault(address => Forbidden(address, loopback)) is { } wrong)
                throw new HttpRequestException($"{context.DnsEndPoint.Host} leads to {wrong}, which is not asked from here");
            var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
            try
            {
                await socket.ConnectAsync(addresses, context.DnsEndPoint.Port, stop);
                return new NetworkStream(socket, ownsSocket: true);
            }
            catch
            {
                socket.Dispose();
                throw;
            }
        },
    };

    /// <summary>Whether an address is this machine's own, or link-local, where machines are told their secrets.</summary>
    public static bool Forbidden(IPAddress address, bool loopback)
    {
        var plain = address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address;
        return (IPAddress.IsLoopback(plain) && !loopback) || plain.Equals(IPAddress.Any) || plain.Equals(IPAddress.IPv6Any) || plain.IsIPv6LinkLocal || plain.IsIPv6Multicast
            || (plain.AddressFamily == AddressFamily.InterNetwork && plain.GetAddressBytes() is [169, 254, ..] or [0, ..] or [>= 224, ..]);
    }

    /// <summary>The text that stands at an address.</summary>
    public async Task<Outcome<string>> Run(string address, CancellationToken stop)
    {
        static Problem Not(string why) => new(400, "The address gives no file.", why);
        if (!Uri.TryCreate(address.Trim(), UriKind.Absolute, out var uri) || uri.Scheme is not ("http" or "https") || uri.UserInfo.Length > 0)
            return Not("It begins with https:// or http:// and holds no password.");
        try
        {
            using var answer = await clients.CreateClient(Client).GetAsync(uri, HttpCompletionOption.ResponseHeadersRead, stop);
            if ((int)answer.StatusCode is >= 300 and < 400)
                return Not($"It leads on to {answer.Headers.Location}; give that address if it is meant.");
            if (!answer.IsSuccessStatusCode)
                return Not($"It answers {(int)answer.StatusCode}.");
            await using var body = await answer.Content.ReadAsStreamAsync(stop);
            var bytes = new byte[SheetFile.Longest + 1];
            var read = await body.ReadAtLeastAsync(bytes, bytes.Length, throwOnEndOfStream: false, stop);
            return read > SheetFile.Longest ? Not($"What stands there is longer than {SheetFile.Longest:N0} bytes.") : Encoding.UTF8.GetString(bytes, 0, read);
        }
        catch (HttpRequestException wrong)
        {
            return Not($"{wrong.Message}.");
        }
        catch (SocketException wrong)
        {
            return Not($"{wrong.Message}.");
        }
        catch (OperationCanceledException) when (!stop.IsCancellationRequested)
        {
            return Not("It did not answer within 10 s.");
        }
    }
}
