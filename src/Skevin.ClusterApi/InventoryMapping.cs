using k8s.Models;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using ContainerPort = Skevin.Core.Clusters.ContainerPort;

namespace Skevin.ClusterApi;

/// <summary>Objects of the cluster API → the inventory's plain records.</summary>
public static class InventoryMapping
{
    private const string RoleLabel = "node-role.kubernetes.io/";

    /// <summary>A node.</summary>
    public static NodeState Node(V1Node node)
    {
        var ready = node.Status?.Conditions?.FirstOrDefault(condition => condition.Type == "Ready");
        var isReady = ready?.Status == "True";
        return new NodeState(
            node.Metadata.Name,
            isReady,
            isReady ? null : ready is null ? "it has not reported yet" : $"{ready.Reason}: {ready.Message}",
            [.. (node.Status?.Addresses ?? []).Where(address => address.Type == "InternalIP").Select(address => address.Address)],
            [.. (node.Metadata.Labels ?? new Dictionary<string, string>()).Keys
                .Where(label => label.StartsWith(RoleLabel, StringComparison.Ordinal)).Select(label => label[RoleLabel.Length..])],
            Amounts(node.Status?.Capacity),
            Amounts(node.Status?.Allocatable),
            node.Status?.NodeInfo?.KubeletVersion ?? "",
            Created(node.Metadata))
        { DiskPressure = node.Status?.Conditions?.Any(condition => condition is { Type: "DiskPressure", Status: "True" }) == true };
    }

    /// <summary>A namespace.</summary>
    public static NamespaceState Namespace(V1Namespace ns) => new(ns.Metadata.Name, Created(ns.Metadata));

    /// <summary>A deployment.</summary>
    public static WorkloadState Workload(V1Deployment item) => new(
        item.Metadata.NamespaceProperty, "Deployment", item.Metadata.Name, item.Spec?.Replicas ?? 1, item.Status?.ReadyReplicas ?? 0,
        item.Status?.AvailableReplicas ?? 0, item.Status?.UpdatedReplicas ?? 0, Created(item.Metadata), Revision(item.Spec?.Template?.Metadata), item.Spec?.Paused == true);

    /// <summary>A stateful set.</summary>
    public static WorkloadState Workload(V1StatefulSet item) => new(
        item.Metadata.NamespaceProperty, "StatefulSet", item.Metadata.Name, item.Spec?.Replicas ?? 1, item.Status?.ReadyReplicas ?? 0,
        item.Status?.AvailableReplicas ?? 0, item.Status?.UpdatedReplicas ?? 0, Created(item.Metadata), Revision(item.Spec?.Template?.Metadata));

    /// <summary>A daemon set.</summary>
    public static WorkloadState Workload(V1DaemonSet item) => new(
        item.Metadata.NamespaceProperty, "DaemonSet", item.Metadata.Name, item.Status?.DesiredNumberScheduled ?? 0, item.Status?.NumberReady ?? 0,
        item.Status?.NumberAvailable ?? 0, item.Status?.UpdatedNumberScheduled ?? 0, Created(item.Metadata), Revision(item.Spec?.Template?.Metadata), item.Spec?.UpdateStrategy?.Type == "OnDelete");

    /// <summary>A pod.</summary>
    public static PodState Pod(V1Pod pod)
    {
        var (kind, workload) = Owner(pod.Metadata);
        var statuses = (pod.Status?.ContainerStatuses ?? []).ToDictionary(status => status.Name);
        var addresses = (pod.Status?.PodIPs ?? []).Select(address => address.Ip).Where(ip => !string.IsNullOrEmpty(ip)).ToArray();
        if (addresses.Length == 0 && !string.IsNullOrEmpty(pod.Status?.PodIP))
            addresses = [pod.Status.PodIP];
        return new PodState(
            pod.Metadata.NamespaceProperty ?? "default",
            pod.Metadata.Name,
            pod.Metadata.Uid ?? "",
            pod.Spec?.NodeName ?? "",
            pod.Status?.Phase ?? "Pending",
            pod.Status?.Reason,
            pod.Status?.Message,
            addresses,
            kind,
            workload,
            [.. (pod.Spec?.Containers ?? []).Select(container => Container(container, statuses.GetValueOrDefault(container.Name)))],
            [.. (pod.Status?.Conditions ?? []).Select(condition => new PodCondition(
                condition.Type, condition.Status == "True", condition.Reason, condition.Message, At(condition.LastTransitionTime)))],
            Created(pod.Metadata),
            Revision(pod.Metadata),
            [.. (pod.Spec?.Volumes ?? []).Select(volume => volume.ConfigMap?.Name).OfType<string>()],
            pod.Metadata.Labels is { } labels ? new Dictionary<string, string>(labels) : null)
        { Open = OpenOf(pod.Spec) };
    }

    // Words in the names of variables that mean a secret; common practice, no source.
    private static readonly string[] SecretWords = ["PASSWORD", "PASSWD", "SECRET", "TOKEN", "API_KEY", "PRIVATE_KEY"];

    private static PodOpenness? OpenOf(V1PodSpec? spec)
    {
        if (spec is null)
            return null;
        var containers = spec.Containers ?? [];
        var folders = (spec.Volumes ?? []).Where(volume => volume.HostPath is not null).ToDictionary(volume => volume.Name, volume => volume.HostPath.Path);
        var open = new PodOpenness(
            [.. containers.Where(container => container.SecurityContext?.Privileged == true).Select(container => container.Name)],
            [.. containers.Where(container => (container.SecurityContext?.RunAsUser ?? spec.SecurityContext?.RunAsUser) == 0).Select(container => container.Name)],
            spec.HostNetwork == true,
            [.. containers.SelectMany(container => container.Env ?? []).Where(variable => !string.IsNullOrEmpty(variable.Value) && SecretWords.Any(word => variable.Name.Contains(word, StringComparison.OrdinalIgnoreCase))).Select(variable => variable.Name).Distinct()],
            [.. containers.SelectMany(container => container.VolumeMounts ?? []).Where(mount => mount.ReadOnlyProperty != true && folders.ContainsKey(mount.Name)).Select(mount => folders[mount.Name]).Distinct()]);
        return open is { Privileged.Count: 0, AsRoot.Count: 0, HostNetwork: false, PlainSecrets.Count: 0, HostFolders.Count: 0 } ? null : open;
    }

    /// <summary>A service.</summary>
    public static ServiceState Service(V1Service service) => new(
        service.Metadata.NamespaceProperty ?? "default", service.Metadata.Name, service.Spec?.Type ?? "ClusterIP",
        [.. (service.Spec?.ClusterIPs ?? []).Where(address => address is not ("" or "None"))],
        service.Spec?.Type == "LoadBalancer" ? [.. (service.Status?.LoadBalancer?.Ingress ?? []).Select(one => one.Ip ?? one.Hostname).OfType<string>()] : null,
        [.. (service.Spec?.Ports ?? []).Select(port => new ServicePort(port.Name ?? "", port.Port, port.TargetPort?.Value ?? port.Port.ToString(System.Globalization.CultureInfo.InvariantCulture), port.Protocol ?? "TCP"))],
        new Dictionary<string, string>(service.Spec?.Selector ?? new Dictionary<string, string>()), Created(service.Metadata));

    /// <summary>An entry point.</summary>
    public static EntryPointState EntryPoint(V1Ingress entry) => new(
        entry.Metadata.NamespaceProperty ?? "default", entry.Metadata.Name, entry.Spec?.IngressClassName ?? "",
        [.. (entry.Status?.LoadBalancer?.Ingress ?? []).Select(one => one.Ip ?? one.Hostname).OfType<string>()],
        [.. (entry.Spec?.Rules ?? []).SelectMany(rule => (rule.Http?.Paths ?? []).Select(path => new EntryRoute(rule.Host ?? "", path.Path ?? "/", path.Backend?.Service?.Name ?? "",
            path.Backend?.Service?.Port?.Name ?? path.Backend?.Service?.Port?.Number?.ToString(System.Globalization.CultureInfo.InvariantCulture) ?? "")))], Created(entry.Metadata))
    { Certificates = [.. (entry.Spec?.Tls ?? []).Where(tls => !string.IsNullOrEmpty(tls.SecretName)).Select(tls => new EntryCertificate(tls.SecretName, [.. tls.Hosts ?? []]))] };

    /// <summary>A configuration object, without its text.</summary>
    public static ConfigurationState Configuration(V1ConfigMap map) => new(
        map.Metadata.NamespaceProperty ?? "default", map.Metadata.Name, (map.Data ?? new Dictionary<string, string>()).ToDictionary(pair => pair.Key, pair => pair.Value.Length), Created(map.Metadata));

    /// <summary>A storage class.</summary>
    public static StorageClassState StorageClass(V1StorageClass one) => new(
        one.Metadata.Name, one.Provisioner ?? "", one.Metadata.Annotations?.TryGetValue("storageclass.kubernetes.io/is-default-class", out var text) == true && text == "true", one.ReclaimPolicy ?? "Delete", one.AllowVolumeExpansion == true, Created(one.Metadata));

    /// <summary>A claim for storage.</summary>
    public static ClaimState Claim(V1PersistentVolumeClaim claim) => new(
        claim.Metadata.NamespaceProperty ?? "default", claim.Metadata.Name, claim.Spec?.StorageClassName ?? "", claim.Status?.Phase ?? "Pending", claim.Spec?.Resources?.Requests?.TryGetValue("storage", out var size) == true ? size.ToString() : "", Created(claim.Metadata));

    /// <summary>What controls a pod: a replica set stands for the deployment whose template hash it carries.</summary>
    public static (string Kind, string Name) Owner(V1ObjectMeta metadata)
    {
        var owner = metadata.OwnerReferences?.FirstOrDefault(reference => reference.Controller == true) ?? metadata.OwnerReferences?.FirstOrDefault();
        if (owner is null)
            return ("", metadata.Name);
        if (owner.Kind == "ReplicaSet"
            && metadata.Labels is { } labels && labels.TryGetValue("pod-template-hash", out var hash)
            && owner.Name.EndsWith("-" + hash, StringComparison.Ordinal))
            return ("Deployment", owner.Name[..^(hash.Length + 1)]);
        return (owner.Kind, owner.Name);
    }

    private static ContainerState Container(V1Container container, V1ContainerStatus? status)
    {
        var state = status?.State;
        var (name, reason, message) = state switch
        {
            { Running: not null } => ("running", (string?)null, (string?)null),
            { Terminated: { } ended } => ("terminated", ended.Reason, ended.Message),
            { Waiting: { } waiting } => ("waiting", waiting.Reason, waiting.Message),
            _ => ("waiting", null, null),
        };
        var last = status?.LastState?.Terminated ?? state?.Terminated;
        return new ContainerState(
            container.Name,
            container.Image ?? "",
            status?.Ready ?? false,
            status?.RestartCount ?? 0,
            name,
            reason,
            message,
            Amounts(container.Resources?.Requests),
            Amounts(container.Resources?.Limits),
            [.. (container.Ports ?? []).Select(port => new ContainerPort(port.Name ?? "", port.ContainerPort))],
            last is null ? null : new Termination(last.Reason ?? "Error", last.ExitCode, At(last.FinishedAt) ?? default),
            (container.Env ?? []).Any(variable => SpanVariables.Contains(variable.Name)));
    }

    // Source: OpenTelemetry specification, "OTLP exporter configuration".
    private static readonly string[] SpanVariables = ["OTEL_EXPORTER_OTLP_ENDPOINT", "OTEL_EXPORTER_OTLP_TRACES_ENDPOINT"];

    private static Resources Amounts(IDictionary<string, ResourceQuantity>? amounts) => new(Amount(amounts, "cpu"), Amount(amounts, "memory"));

    private static double Amount(IDictionary<string, ResourceQuantity>? amounts, string name) =>
        amounts is not null && amounts.TryGetValue(name, out var quantity) ? Quantity.Parse(quantity.ToString()) ?? 0 : 0;

    private static string? Revision(V1ObjectMeta? metadata) =>
        metadata?.Annotations is { } annotations && annotations.TryGetValue(Manifests.RevisionAnnotation, out var revision) ? revision : null;

    private static DateTimeOffset Created(V1ObjectMeta metadata) => At(metadata.CreationTimestamp) ?? default;

    private static DateTimeOffset? At(DateTime? time) =>
        time is { } known ? new DateTimeOffset(DateTime.SpecifyKind(known, DateTimeKind.Utc)) : null;
}
