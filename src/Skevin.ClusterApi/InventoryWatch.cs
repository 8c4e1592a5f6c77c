using System.Collections.Concurrent;
using k8s;
using k8s.Autorest;
using k8s.Models;
using Skevin.Core.Clusters;

namespace Skevin.ClusterApi;

/// <summary>Keeps an inventory of a cluster up to date: lists, then watches, and lists again where a watch ends.</summary>
public sealed class InventoryWatch(Kubernetes client)
{
    private readonly ConcurrentDictionary<string, NodeState> _nodes = new();
    private readonly ConcurrentDictionary<string, NamespaceState> _namespaces = new();
    private readonly ConcurrentDictionary<string, WorkloadState> _workloads = new();
    private readonly ConcurrentDictionary<string, PodState> _pods = new();
    private readonly ConcurrentDictionary<string, ServiceState> _services = new();
    private readonly ConcurrentDictionary<string, EntryPointState> _entries = new();
    private readonly ConcurrentDictionary<string, ConfigurationState> _configurations = new();
    private readonly ConcurrentDictionary<string, StorageClassState> _classes = new();
    private readonly ConcurrentDictionary<string, ClaimState> _claims = new();
    private static readonly TimeSpan CertificatesEvery = TimeSpan.FromSeconds(15);
    private IReadOnlyList<CertificateState> _certificates = [];
    private readonly ConcurrentDictionary<string, string> _errors = new();
    private readonly ConcurrentDictionary<string, string> _lacking = new();
    private readonly HashSet<string> _listed = [];
    private string _version = "";

    private const int Lists = 6;

    /// <summary>Something changed.</summary>
    public event Action? Changed;

    /// <summary>What cannot be read now, by kind of object, with the cluster's own words.</summary>
    public IReadOnlyDictionary<string, string> Errors => _errors;

    /// <summary>What else cannot be read, though the inventory is complete without it: services, entry points, configuration objects and storage.</summary>
    public IReadOnlyDictionary<string, string> Lacking => _lacking;

    /// <summary>Whether every kind of object was listed once.</summary>
    public bool Complete
    {
        get
        {
            lock (_listed)
                return _listed.Count == Lists;
        }
    }

    /// <summary>The cluster as last seen.</summary>
    public Inventory Current => new(
        _version,
        [.. _nodes.Values.OrderBy(node => node.Name, StringComparer.Ordinal)],
        [.. _namespaces.Values.OrderBy(ns => ns.Name, StringComparer.Ordinal)],
        [.. _workloads.Values.OrderBy(workload => workload.Namespace, StringComparer.Ordinal).ThenBy(workload => workload.Name, StringComparer.Ordinal)],
        [.. _pods.Values.OrderBy(pod => pod.Namespace, StringComparer.Ordinal).ThenBy(pod => pod.Name, StringComparer.Ordinal)])
    {
        Services = [.. _services.Values.OrderBy(one => one.Namespace, StringComparer.Ordinal).ThenBy(one => one.Name, StringComparer.Ordinal)],
        EntryPoints = [.. _entries.Values.OrderBy(one => one.Namespace, StringComparer.Ordinal).ThenBy(one => one.Name, StringComparer.Ordinal)],
        Configurations = [.. _configurations.Values.OrderBy(one => one.Namespace, StringComparer.Ordinal).ThenBy(one => one.Name, StringComparer.Ordinal)],
        StorageClasses = [.. _classes.Values.OrderBy(one => one.Name, StringComparer.Ordinal)],
        Certificates = _certificates,
        Claims = [.. _claims.Values.OrderBy(one => one.Namespace, StringComparer.Ordinal).ThenBy(one => one.Name, StringComparer.Ordinal)],
    };

    /// <summary>Runs until stopped.</summary>
    public Task Run(CancellationToken stop) => Task.WhenAll(
        Certificates(stop),
        Repeat("version", async token => { _version = (await client.Version.GetCodeAsync(token)).GitVersion; return true; }, stop),
        Keep(new Kind<V1Node>("nodes", "",
            async token => { var list = await client.CoreV1.ListNodeAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.CoreV1.WatchListNodeAsync(resourceVersion: version, cancellationToken: token)),
            _nodes, InventoryMapping.Node, stop),
        Keep(new Kind<V1Namespace>("namespaces", "",
            async token => { var list = await client.CoreV1.ListNamespaceAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.CoreV1.WatchListNamespaceAsync(resourceVersion: version, cancellationToken: token)),
            _namespaces, InventoryMapping.Namespace, stop),
        Keep(new Kind<V1Pod>("pods", "",
            async token => { var list = await client.CoreV1.ListPodForAllNamespacesAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.CoreV1.WatchListPodForAllNamespacesAsync(resourceVersion: version, cancellationToken: token)),
            _pods, InventoryMapping.Pod, stop),
        Keep(new Kind<V1Deployment>("deployments", "Deployment/",
            async token => { var list = await client.AppsV1.ListDeploymentForAllNamespacesAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.AppsV1.WatchListDeploymentForAllNamespacesAsync(resourceVersion: version, cancellationToken: token)),
            _workloads, InventoryMapping.Workload, stop),
        Keep(new Kind<V1StatefulSet>("stateful sets", "StatefulSet/",
            async token => { var list = await client.AppsV1.ListStatefulSetForAllNamespacesAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.AppsV1.WatchListStatefulSetForAllNamespacesAsync(resourceVersion: version, cancellationToken: token)),
            _workloads, InventoryMapping.Workload, stop),
        Keep(new Kind<V1DaemonSet>("daemon sets", "DaemonSet/",
            async token => { var list = await client.AppsV1.ListDaemonSetForAllNamespacesAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.AppsV1.WatchListDaemonSetForAllNamespacesAsync(resourceVersion: version, cancellationToken: token)),
            _workloads, InventoryMapping.Workload, stop),
        Keep(new Kind<V1Service>("services", "",
            async token => { var list = await client.CoreV1.ListServiceForAllNamespacesAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.CoreV1.WatchListServiceForAllNamespacesAsync(resourceVersion: version, cancellationToken: token), Beside: true),
            _services, InventoryMapping.Service, stop),
        Keep(new Kind<V1Ingress>("entry points", "",
            async token => { var list = await client.NetworkingV1.ListIngressForAllNamespacesAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.NetworkingV1.WatchListIngressForAllNamespacesAsync(resourceVersion: version, cancellationToken: token), Beside: true),
            _entries, InventoryMapping.EntryPoint, stop),
        Keep(new Kind<V1ConfigMap>("configuration objects", "",
            async token => { var list = await client.CoreV1.ListConfigMapForAllNamespacesAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.CoreV1.WatchListConfigMapForAllNamespacesAsync(resourceVersion: version, cancellationToken: token), Beside: true),
            _configurations, InventoryMapping.Configuration, stop),
        Keep(new Kind<V1StorageClass>("storage classes", "",
            async token => { var list = await client.StorageV1.ListStorageClassAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.StorageV1.WatchListStorageClassAsync(resourceVersion: version, cancellationToken: token), Beside: true),
            _classes, InventoryMapping.StorageClass, stop),
        Keep(new Kind<V1PersistentVolumeClaim>("claims for storage", "",
            async token => { var list = await client.CoreV1.ListPersistentVolumeClaimForAllNamespacesAsync(cancellationToken: token); return (list.Items, list.Metadata?.ResourceVersion); },
            (version, token) => client.CoreV1.WatchListPersistentVolumeClaimForAllNamespacesAsync(resourceVersion: version, cancellationToken: token), Beside: true),
            _claims, InventoryMapping.Claim, stop));

    // Secrets are not listed: only those an entry point names are read, and of them the certificate alone.
    private async Task Certificates(CancellationToken stop)
    {
        const string Title = "certificates";
        while (!stop.IsCancellationRequested)
        {
            try
            {
                var found = new List<CertificateState>();
                foreach (var (entry, own) in _entries.Values.SelectMany(entry => entry.Certificates.Select(own => (entry, own))))
                    found.Add(Core.Clusters.Certificates.Judge(entry.Namespace, own.Secret, own.Hosts, await Certificate(entry.Namespace, own.Secret, stop), DateTimeOffset.UtcNow));
                _lacking.TryRemove(Title, out _);
                if (!found.Select(Key).SequenceEqual(_certificates.Select(Key)))
                {
                    _certificates = found;
                    Changed?.Invoke();
                }
            }
            catch (Exception trouble) when (trouble is HttpOperationException or HttpRequestException or System.Text.Json.JsonException)
            {
                _lacking[Title] = Words(trouble);
            }
            catch (OperationCanceledException)
            {
                return;
            }
            await Task.Delay(_entries.IsEmpty ? TimeSpan.FromSeconds(1) : CertificatesEvery, stop).ContinueWith(_ => { }, TaskScheduler.Default);
        }

        static (string, string, DateTimeOffset?, string?) Key(CertificateState one) => (one.Namespace, one.Secret, one.NotAfter, one.Trouble);
    }

    private async Task<string?> Certificate(string ns, string secret, CancellationToken stop)
    {
        try
        {
            var read = await client.CoreV1.ReadNamespacedSecretAsync(secret, ns, cancellationToken: stop);
            return read.Data?.TryGetValue("tls.crt", out var bytes) == true ? System.Text.Encoding.ASCII.GetString(bytes) : "";
        }
        catch (HttpOperationException missing) when (missing.Response.StatusCode == System.Net.HttpStatusCode.NotFound)
        {
            return null;
        }
    }

    /// <summary>How one kind of object is listed and watched.</summary>
    private sealed record Kind<T>(
        string Title, string Prefix, Func<CancellationToken, Task<(IList<T> Items, string? Version)>> List,
        Func<string?, CancellationToken, IAsyncEnumerable<(WatchEventType, T)>> Watch, bool Beside = false);

    private Task Keep<T, TState>(
        Kind<T> kind, ConcurrentDictionary<string, TState> into, Func<T, TState> map, CancellationToken stop)
        where T : IMetadata<V1ObjectMeta> => Repeat(kind.Title, async token =>
    {
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(token);
        patience.CancelAfter(TimeSpan.FromSeconds(15));
        var (items, version) = await kind.List(patience.Token);
        (kind.Beside ? _lacking : _errors).TryRemove(kind.Title, out _);
        var seen = new HashSet<string>();
        foreach (var item in items ?? [])
        {
            seen.Add(kind.Prefix + Name(item));
            into[kind.Prefix + Name(item)] = map(item);
        }
        foreach (var gone in into.Keys.Where(key => key.StartsWith(kind.Prefix, StringComparison.Ordinal) && !seen.Contains(key)))
            into.TryRemove(gone, out _);
        if (!kind.Beside)
            lock (_listed)
                _listed.Add(kind.Title);
        Changed?.Invoke();
        await foreach (var (type, item) in kind.Watch(version, token))
        {
            if (type == WatchEventType.Deleted)
                into.TryRemove(kind.Prefix + Name(item), out _);
            else if (type is WatchEventType.Added or WatchEventType.Modified)
                into[kind.Prefix + Name(item)] = map(item);
            else if (type == WatchEventType.Error)
                break;
            Changed?.Invoke();
        }
        return false;
    }, stop, kind.Beside);

    // What may not be read is asked for again less often.
    private async Task Repeat(string title, Func<CancellationToken, Task<bool>> once, CancellationToken stop, bool beside = false)
    {
        while (!stop.IsCancellationRequested)
        {
            try
            {
                if (await once(stop))
                    return;
            }
            catch (Exception trouble) when (!stop.IsCancellationRequested)
            {
                (beside ? _lacking : _errors)[title] = Words(trouble);
                Changed?.Invoke();
                if (beside)
                    await Task.Delay(TimeSpan.FromSeconds(20), stop).ContinueWith(_ => { }, TaskScheduler.Default);
            }
            catch (OperationCanceledException)
            {
                return;
            }
            await Task.Delay(TimeSpan.FromSeconds(1), stop).ContinueWith(_ => { }, TaskScheduler.Default);
        }
    }

    private static string Name<T>(T item) where T : IMetadata<V1ObjectMeta> => $"{item.Metadata.NamespaceProperty}/{item.Metadata.Name}";

    /// <summary>An error of the cluster API in words a person can act on.</summary>
    public static string Words(Exception trouble) => trouble switch
    {
        HttpOperationException { Response: { } response } => $"{(int)response.StatusCode} {StatusMessage(response.Content)}",
        OperationCanceledException => "no answer within 15 s",
        HttpRequestException request => "cannot be reached: " + request.Message,
        _ => trouble.Message,
    };

    private static string StatusMessage(string? content)
    {
        try
        {
            return KubernetesJson.Deserialize<V1Status>(content ?? "{}").Message ?? content ?? "";
        }
        catch (System.Text.Json.JsonException)
        {
            return content ?? "";
        }
    }
}
