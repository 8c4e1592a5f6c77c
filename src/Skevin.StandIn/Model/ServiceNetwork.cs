using System.Net;
using System.Net.Sockets;
using System.Text.Json.Nodes;
using Skevin.StandIn.Api;

namespace Skevin.StandIn.Model;

/// <summary>Names and addresses of services, and the pods behind them.</summary>
public static class ServiceNetwork
{
    private const string Suffix = ".svc.cluster.local";

    /// <summary>The service with an address, or null.</summary>
    public static StoredObject? At(SimCluster cluster, string address) =>
        cluster.Store.List("", "services", "").Objects.FirstOrDefault(service => Addresses(service).Contains(address));

    /// <summary>Address and port of a ready pod behind a service, or null where there is none.</summary>
    /// <param name="cluster">The cluster.</param>
    /// <param name="service">The service.</param>
    /// <param name="port">Its port.</param>
    /// <param name="v6">Which family the pod is reached in.</param>
    public static (string Address, int Port)? PodBehind(SimCluster cluster, StoredObject service, int port, bool v6)
    {
        var spec = service.Body["spec"]!;
        if (spec["ports"]!.AsArray().FirstOrDefault(one => one!["port"]!.GetValue<int>() == port) is not { } open || spec["selector"] is not JsonObject selector)
            return null;
        var pod = cluster.Pods.FirstOrDefault(pod => pod.Namespace == service.Key.Namespace && pod.IsReady && pod.Addresses.Any(address => address.Contains(':') == v6)
            && selector.All(pair => pod.Template["metadata"]?["labels"]?[pair.Key]?.ToString() == pair.Value?.ToString()));
        if (pod is null)
            return null;
        var target = open["targetPort"]?.ToString() ?? port.ToString(System.Globalization.CultureInfo.InvariantCulture);
        var number = int.TryParse(target, out var given) ? given
            : (pod.Container["ports"] as JsonArray ?? []).FirstOrDefault(own => own!["name"]?.ToString() == target)?["containerPort"]?.GetValue<int>();
        return number is { } found ? (pod.Addresses.First(address => address.Contains(':') == v6), found) : null;
    }

    /// <summary>Looks a name up as the cluster's name service would.</summary>
    public static IReadOnlyList<IPAddress> LookUp(SimCluster cluster, string name, AddressFamily family)
    {
        if (cluster.Faults.IsOn(Faults.NamesFail) || !cluster.Pods.Any(pod => pod.OwnerName == "name-service" && pod.IsReady))
            throw new SocketException((int)SocketError.TryAgain);
        var parts = (name.EndsWith(Suffix, StringComparison.Ordinal) ? name[..^Suffix.Length] : name).Split('.');
        if (parts.Length != 2 || cluster.Store.Get(new ObjectKey("", "services", parts[1], parts[0])) is not { } service)
            throw new SocketException((int)SocketError.HostNotFound);
        return [.. Addresses(service).Select(IPAddress.Parse).Where(address => address.AddressFamily == family)];
    }

    private static IEnumerable<string> Addresses(StoredObject service) =>
        (service.Body["spec"]?["clusterIPs"] as JsonArray ?? []).Select(address => address!.GetValue<string>());
}
