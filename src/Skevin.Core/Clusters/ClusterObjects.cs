namespace Skevin.Core.Clusters;

/// <summary>A port of a service.</summary>
/// <param name="Target">Number or name of the pods' port behind it.</param>
public sealed record ServicePort(string Name, int Number, string Target, string Protocol);

/// <summary>A service: one name and address for the pods its selector matches.</summary>
/// <param name="Type">ClusterIP, NodePort, LoadBalancer or ExternalName.</param>
/// <param name="Addresses">Inside addresses of both families; empty where it has none.</param>
/// <param name="Outside">Outside addresses; null where it is not meant to have any, empty while they are awaited.</param>
/// <param name="Selector">Labels its pods carry; empty where somebody else fills in its endpoints.</param>
public sealed record ServiceState(
    string Namespace, string Name, string Type, IReadOnlyList<string> Addresses, IReadOnlyList<string>? Outside, IReadOnlyList<ServicePort> Ports, IReadOnlyDictionary<string, string> Selector, DateTimeOffset Created);

/// <summary>Where an entry point sends what it takes.</summary>
/// <param name="Port">Number or name of the service's port.</param>
public sealed record EntryRoute(string Host, string Path, string Service, string Port);

/// <summary>An entry point of a cluster (an ingress).</summary>
/// <param name="Class">Which controller serves it; empty for the default one.</param>
public sealed record EntryPointState(string Namespace, string Name, string Class, IReadOnlyList<string> Addresses, IReadOnlyList<EntryRoute> Routes, DateTimeOffset Created)
{
    /// <summary>Secrets its certificates are in, with the hosts they are for.</summary>
    public IReadOnlyList<EntryCertificate> Certificates { get; init; } = [];
}

/// <summary>Where an entry point keeps a certificate.</summary>
public sealed record EntryCertificate(string Secret, IReadOnlyList<string> Hosts);

/// <summary>A configuration object.</summary>
/// <param name="Keys">Names of its entries with their length in characters.</param>
public sealed record ConfigurationState(string Namespace, string Name, IReadOnlyDictionary<string, int> Keys, DateTimeOffset Created);

/// <summary>A storage class.</summary>
public sealed record StorageClassState(string Name, string Provisioner, bool Default, string Reclaim, bool Expandable, DateTimeOffset Created);

/// <summary>A claim for storage.</summary>
/// <param name="Class">Storage class it names; empty for the default one.</param>
/// <param name="Phase">Bound, Pending or Lost.</param>
/// <param name="Size">As asked for, for example 8Gi.</param>
public sealed record ClaimState(string Namespace, string Name, string Class, string Phase, string Size, DateTimeOffset Created);

/// <summary>Says whether services, entry points and claims lead anywhere.</summary>
public static class ObjectHealth
{
    /// <summary>Pods a service's selector matches.</summary>
    public static IReadOnlyList<PodState> PodsOf(ServiceState service, Inventory inventory) => service.Selector.Count == 0 ? []
        : [.. inventory.Pods.Where(pod => pod.Namespace == service.Namespace && service.Selector.All(pair => pod.Labels?.GetValueOrDefault(pair.Key) == pair.Value))];

    /// <summary>A service. One without a selector is filled in by others, so nothing is said about its pods.</summary>
    public static Health Of(ServiceState service, Inventory inventory)
    {
        if (service.Type == "ExternalName" || service.Selector.Count == 0)
            return Health.Well;
        var pods = PodsOf(service, inventory);
        if (pods.Count == 0)
            return new(HealthLevel.Critical, [$"Its selector {Words(service.Selector)} matches no pod.{Nearest(service, inventory)}"]);
        var because = new List<string>();
        foreach (var port in service.Ports.Where(port => !int.TryParse(port.Target, out _) && pods.All(pod => pod.Containers.All(container => container.Ports.All(own => own.Name != port.Target)))))
            because.Add($"No container of its pods has a port named {port.Target}, which port {port.Number} leads to.");
        if (because.Count > 0)
            return new(HealthLevel.Critical, because);
        var ready = pods.Count(pod => pod.Ready);
        if (service is { Type: "LoadBalancer", Outside: { Count: 0 } })
            because.Add("Its outside address is awaited.");
        return ready == 0 ? new(HealthLevel.Critical, [$"None of its {pods.Count} pods is ready.", .. because])
            : ready < pods.Count ? new(HealthLevel.Minor, [$"{ready} of its {pods.Count} pods are ready.", .. because])
            : because.Count > 0 ? new(HealthLevel.Warning, because) : Health.Well;
    }

    /// <summary>An entry point: every route must lead to a port of a service that leads to pods.</summary>
    public static Health Of(EntryPointState entry, Inventory inventory)
    {
        var (because, level) = (new List<string>(), HealthLevel.Clear);
        foreach (var route in entry.Routes)
        {
            var service = inventory.Services.FirstOrDefault(service => service.Namespace == entry.Namespace && service.Name == route.Service);
            var what = $"{(route.Host.Length > 0 ? route.Host : "any host")}{route.Path}";
            if (service is null)
                Say(HealthLevel.Critical, $"{what} leads to service {route.Service}, which is not there.");
            else if (service.Ports.All(port => port.Name != route.Port && port.Number.ToString(System.Globalization.CultureInfo.InvariantCulture) != route.Port))
                Say(HealthLevel.Critical, $"{what} leads to port {route.Port} of {route.Service}, which has {string.Join(", ", service.Ports.Select(port => port.Number))}.");
            else if (Of(service, inventory) is { Level: > HealthLevel.Warning } health)
                Say(health.Level, $"{what} leads to {route.Service}: {health.Because[0]}");
        }
        foreach (var certificate in CertificatesOf(entry, inventory).Where(one => one.Trouble is not null))
            Say(certificate.Level, certificate.Trouble!);
        return new(level, because);

        void Say(HealthLevel found, string text)
        {
            because.Add(text);
            level = found > level ? found : level;
        }
    }

    /// <summary>The certificates of an entry point that could be looked at.</summary>
    public static IEnumerable<CertificateState> CertificatesOf(EntryPointState entry, Inventory inventory) =>
        inventory.Certificates.Where(one => one.Namespace == entry.Namespace && entry.Certificates.Any(own => own.Secret == one.Secret));

    /// <summary>A claim for storage: it must be bound, by a class that is there.</summary>
    public static Health Of(ClaimState claim, Inventory inventory) => claim.Phase == "Bound" ? Health.Well
        : claim.Class.Length > 0 && inventory.StorageClasses.All(known => known.Name != claim.Class)
            ? new(HealthLevel.Critical, [$"There is no storage class {claim.Class}; there {(inventory.StorageClasses.Count == 1 ? "is" : "are")} {(inventory.StorageClasses.Count == 0 ? "none" : string.Join(", ", inventory.StorageClasses.Select(known => known.Name)))}. Pods that use it wait."])
            : new(HealthLevel.Major, [$"It is {claim.Phase.ToLowerInvariant()}."]);

    private static string Words(IReadOnlyDictionary<string, string> labels) => string.Join(", ", labels.OrderBy(pair => pair.Key, StringComparer.Ordinal).Select(pair => $"{pair.Key}={pair.Value}"));

    // The value most likely meant: the nearest one its pods' namespace has under the same label.
    private static string Nearest(ServiceState service, Inventory inventory)
    {
        foreach (var (key, value) in service.Selector)
        {
            var known = inventory.Pods.Where(pod => pod.Namespace == service.Namespace).Select(pod => pod.Labels?.GetValueOrDefault(key)).OfType<string>().Distinct().ToArray();
            if (!known.Contains(value) && Query.Language.EditDistance.Nearest(value, known, 1).FirstOrDefault() is { } near)
                return $" The nearest: {key}={near}.";
        }
        return "";
    }
}
