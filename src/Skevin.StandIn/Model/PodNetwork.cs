using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Text;
using System.Text.Json.Nodes;

namespace Skevin.StandIn.Model;

/// <summary>The pods' network: one loopback port on which every application endpoint answers, told apart by the address asked.</summary>
public sealed class PodNetwork(IReadOnlyList<SimCluster> clusters)
{
    // Nothing listens on port 1, so a connection there is refused by the machine itself.
    private const int ClosedPort = 1;

    /// <summary>Clusters that were ordered since.</summary>
    public IReadOnlyList<SimCluster> Ordered { get; set; } = [];

    /// <summary>Loopback ports of pods in which a program of its own runs: by pod and its port, null where it does not listen.</summary>
    public List<Func<SimPod, int, int?>> Programs { get; } = [];

    /// <summary>The loopback port it listens on.</summary>
    public int Port { get; set; }

    /// <summary>Brings the model to the present before somebody looks at it.</summary>
    public Action Settle { get; set; } = () => { };

    /// <summary>Opens a connection from a node to an address of a pod or a service: a real one where a pod listens, a really refused one where it does not.</summary>
    public async ValueTask<Stream> Dial(SimCluster from, string node, string host, int port, CancellationToken stop)
    {
        var address = host.Trim('[', ']');
        if (address.Contains(':') && !from.HasV6(node))
            throw new SocketException((int)SocketError.NetworkUnreachable);
        if (ServiceNetwork.At(from, address) is { } service)
            (address, port) = ServiceNetwork.PodBehind(from, service, port, address.Contains(':')) ?? (address, ClosedPort);
        var (pod, faults) = Find(address);
        if (pod is not null && address.Contains(':') && !from.HasV6(pod.Node))
            throw new SocketException((int)SocketError.HostUnreachable);
        var own = pod is null ? null : Programs.Select(program => program(pod, port)).FirstOrDefault(found => found is not null);
        var listens = pod is not null && Listens(pod, port, faults!);
        var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            await socket.ConnectAsync(IPAddress.Loopback, own ?? (listens ? Port : ClosedPort), stop);
            return new NetworkStream(socket, ownsSocket: true);
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    /// <summary>Answers a request to a pod's address.</summary>
    public async Task Handle(HttpContext context)
    {
        Settle();
        var (pod, faults) = Find(context.Request.Host.Host);
        // A process that went to another port took its connections with it.
        if (pod is not null && !Listens(pod, context.Request.Host.Port ?? 80, faults!))
        {
            context.Abort();
            return;
        }
        if (pod is null || context.Request.Path != (faults!.IsOn(Faults.WrongPath) && pod.OwnerName == "price-feed" ? "/internal/metrics" : "/metrics"))
        {
            context.Response.StatusCode = 404;
            return;
        }
        context.Response.ContentType = "application/openmetrics-text; version=1.0.0; charset=utf-8";
        var text = Exposition(pod, faults!.IsOn(Faults.LabelExplosion));
        // A label that is not closed, before the end.
        if (faults!.IsOn(Faults.Malformed) && pod.OwnerName == "lot-registry")
            text = text.Replace("# EOF\n", "# TYPE lots_waiting gauge\nlots_waiting{room=\"3} 4\n# EOF\n");
        await context.Response.WriteAsync(text, context.RequestAborted);
    }

    private (SimPod? Pod, Faults? Faults) Find(string host)
    {
        foreach (var cluster in clusters.Concat(Ordered))
            if (cluster.ByAddress(host.Trim('[', ']')) is { } pod)
                return (pod, cluster.Faults);
        return (null, null);
    }

    // Buckets count all that took no longer. Source: OpenMetrics 1.0, "Histogram".
    private static void Calls(SimPod pod, string created, StringBuilder text)
    {
        const string name = "http_client_request_duration_seconds";
        text.Append($"# TYPE {name} histogram\n# UNIT {name} seconds\n# HELP {name} Duration of calls to others.\n");
        var sum = 0.0;
        for (var i = 0; i < pod.Calls.Length; i++)
            text.Append(CultureInfo.InvariantCulture, $"{name}_bucket{{le=\"{(i < SimPod.CallBounds.Length ? SimPod.CallBounds[i].ToString("0.0##", CultureInfo.InvariantCulture) : "+Inf")}\"}} {sum += pod.Calls[i]}\n");
        text.Append(CultureInfo.InvariantCulture, $"{name}_sum {pod.SecondsCalling:R}\n{name}_count {sum}\n{name}_created {created}\n");
    }

    private static bool Listens(SimPod pod, int port, Faults faults) =>
        Ports(pod).Contains(port) && !(faults.IsOn(Faults.WrongPort) && pod.OwnerName == "settle" && port == Scenario.Of(pod)?.Metrics);

    private static IEnumerable<int> Ports(SimPod pod) =>
        pod.Container["ports"] is JsonArray ports ? ports.Select(port => port!["containerPort"]!.GetValue<int>()) : [];

    // Sessions of one pod that share its requests.
    private const int Sessions = 250;

    private static string Exposition(SimPod pod, bool sessions)
    {
        var text = new StringBuilder();
        string N(double value) => value.ToString("R", CultureInfo.InvariantCulture);
        var created = N(pod.ContainerStarted.ToUnixTimeMilliseconds() / 1000.0);
        text.Append("# TYPE http_server_request_duration_seconds summary\n# UNIT http_server_request_duration_seconds seconds\n")
            .Append("# HELP http_server_request_duration_seconds Duration of answered requests.\n")
            .Append($"http_server_request_duration_seconds{{quantile=\"0.5\"}} {N(pod.Lately(0.5))}\n")
            .Append($"http_server_request_duration_seconds{{quantile=\"0.95\"}} {N(pod.Lately(0.95))}\n")
            .Append($"http_server_request_duration_seconds_sum {N(pod.SecondsServing)}\n")
            .Append($"http_server_request_duration_seconds_count {Math.Floor(pod.RequestsOk) + Math.Floor(pod.RequestsFailed)}\n")
            .Append($"http_server_request_duration_seconds_created {created}\n")
            .Append("# TYPE http_server_requests counter\n# HELP http_server_requests Requests answered, by status.\n")
            .Append($"http_server_requests_total{{http_response_status_code=\"200\"}} {Math.Floor(pod.RequestsOk)}\n")
            .Append($"http_server_requests_created{{http_response_status_code=\"200\"}} {created}\n")
            .Append($"http_server_requests_total{{http_response_status_code=\"503\"}} {Math.Floor(pod.RequestsFailed)}\n")
            .Append($"http_server_requests_created{{http_response_status_code=\"503\"}} {created}\n")
            .Append("# TYPE http_server_active_requests gauge\n")
            .Append($"http_server_active_requests {N(Math.Round(pod.InFlight, 2))}\n");
        if (pod.OwnerName == "bid-gateway")
            text.Append("# TYPE auction_bids_accepted counter\n# HELP auction_bids_accepted Bids the falling clock took.\n")
                .Append($"auction_bids_accepted_total {Math.Floor(pod.RequestsOk * 0.31)}\n")
                .Append($"auction_bids_accepted_created {created}\n");
        if (pod.OwnerName == "price-feed")
        {
            text.Append("# TYPE price_lookups counter\n# HELP price_lookups Prices that were asked for.\n");
            for (var i = 0; i < (sessions ? Sessions : 1); i++)
            {
                var labels = sessions ? $"{{session=\"{pod.Uid[..6]}-{i:x3}\"}}" : "";
                text.Append($"price_lookups_total{labels} {Math.Floor((pod.RequestsOk + (sessions ? Sessions - 1 - i : 0)) / (sessions ? Sessions : 1))}\n").Append($"price_lookups_created{labels} {created}\n");
            }
        }
        if (pod.Calls.Any(calls => calls > 0))
            Calls(pod, created, text);
        return text.Append("# EOF\n").ToString();
    }
}
