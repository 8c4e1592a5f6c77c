using k8s;
using k8s.Autorest;
using Skevin.ClusterApi;
using Skevin.Core.Access;
using Skevin.Core.Clusters;
using Skevin.Server.Setup;

namespace Skevin.Server.Clusters;

/// <summary>A service, with how many pods it leads to.</summary>
public sealed record ServiceView(ServiceState Service, int Pods, int ReadyPods, HealthLevel Level, IReadOnlyList<string> Because);

/// <summary>An entry point.</summary>
/// <param name="Until">When the first of its certificates ends; null where it has none that could be read.</param>
public sealed record EntryPointView(EntryPointState Entry, HealthLevel Level, IReadOnlyList<string> Because, DateTimeOffset? Until);

/// <summary>A configuration object.</summary>
/// <param name="UsedBy">Workloads whose pods are given it.</param>
public sealed record ConfigurationView(ConfigurationState Configuration, IReadOnlyList<string> UsedBy);

/// <summary>A claim for storage.</summary>
public sealed record ClaimView(ClaimState Claim, HealthLevel Level, IReadOnlyList<string> Because);

/// <summary>What a cluster holds beside nodes, workloads and pods.</summary>
/// <param name="Lacking">Kinds of object that cannot be read, in the cluster's words.</param>
public sealed record ObjectsView(
    IReadOnlyList<ServiceView> Services, IReadOnlyList<EntryPointView> EntryPoints, IReadOnlyList<ConfigurationView> Configurations, IReadOnlyList<StorageClassState> StorageClasses,
    IReadOnlyList<ClaimView> Claims, IReadOnlyList<string> Lacking);

/// <summary>Services, entry points, configuration objects and storage as one reader may see them.</summary>
internal static class ClusterObjectViews
{
    public static ObjectsView Of(WatchedCluster cluster, AccessScope scope)
    {
        var inventory = cluster.Watch.Current;
        var seen = inventory.Visible(cluster.Name, scope);
        var users = inventory.Pods.SelectMany(pod => (pod.Configurations ?? []).Select(name => (pod.Namespace, Name: name, pod.Workload))).ToLookup(use => (use.Namespace, use.Name), use => use.Workload);
        return new ObjectsView(
            [.. seen.Services.Select(service => (service, pods: ObjectHealth.PodsOf(service, inventory), health: ObjectHealth.Of(service, inventory)))
                .Select(one => new ServiceView(one.service, one.pods.Count, one.pods.Count(pod => pod.Ready), one.health.Level, one.health.Because))],
            [.. seen.EntryPoints.Select(entry => (entry, health: ObjectHealth.Of(entry, inventory))).Select(one => new EntryPointView(one.entry, one.health.Level, one.health.Because, ObjectHealth.CertificatesOf(one.entry, inventory).Min(certificate => certificate.NotAfter)))],
            [.. seen.Configurations.Select(one => new ConfigurationView(one, [.. users[(one.Namespace, one.Name)].Distinct().Order(StringComparer.Ordinal)]))],
            seen.StorageClasses,
            [.. seen.Claims.Select(claim => (claim, health: ObjectHealth.Of(claim, inventory))).Select(one => new ClaimView(one.claim, one.health.Level, one.health.Because))],
            [.. cluster.Watch.Lacking.Select(pair => $"{pair.Key}: {pair.Value}").Order(StringComparer.Ordinal)]);
    }

    /// <summary>Text of a configuration object, read now.</summary>
    public static async Task<Outcome<Dictionary<string, string>>> Text(WatchedCluster cluster, string ns, string name, CancellationToken stop)
    {
        try
        {
            return new Dictionary<string, string>((await cluster.Client.CoreV1.ReadNamespacedConfigMapAsync(name, ns, cancellationToken: stop)).Data ?? new Dictionary<string, string>());
        }
        catch (Exception trouble) when (trouble is HttpOperationException or HttpRequestException)
        {
            return new Problem(502, "The configuration object cannot be read.", InventoryWatch.Words(trouble));
        }
    }
}
