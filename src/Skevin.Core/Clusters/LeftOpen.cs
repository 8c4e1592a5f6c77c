using Skevin.Core.Collection;

namespace Skevin.Core.Clusters;

/// <summary>Something that was left open for convenience.</summary>
/// <param name="What">What is open.</param>
/// <param name="Where">Workload, service, or Skevin itself.</param>
/// <param name="Namespace">Null where it is in none.</param>
/// <param name="Risk">What may come of it.</param>
/// <param name="Act">The one act that closes it.</param>
/// <param name="Level">How grave it is.</param>
/// <param name="Place">Path of the page on which it is closed; null where that is outside Skevin.</param>
public sealed record OpenItem(string What, string Where, string? Namespace, string Risk, string Act, HealthLevel Level, string? Place = null);

/// <summary>What a pod leaves open, as its declaration says.</summary>
/// <param name="Privileged">Containers that may do anything on the node.</param>
/// <param name="AsRoot">Containers that are told to run as root.</param>
/// <param name="HostNetwork">Whether it uses its node's network.</param>
/// <param name="PlainSecrets">Variables that hold a secret in plain text; their names alone.</param>
/// <param name="HostFolders">Folders of the node it can write to.</param>
public sealed record PodOpenness(IReadOnlyList<string> Privileged, IReadOnlyList<string> AsRoot, bool HostNetwork, IReadOnlyList<string> PlainSecrets, IReadOnlyList<string> HostFolders);

/// <summary>What is known of Skevin itself.</summary>
/// <param name="DemoPassword">Whether the demo's password is still the one everybody knows.</param>
/// <param name="Address">Address the agents send to.</param>
/// <param name="MayEverything">Whether the account Skevin uses in the cluster may do everything; null where that is not known.</param>
/// <param name="EndlessTokens">Names of ingest tokens that never expire.</param>
/// <param name="Contacts">Contacts that can be told.</param>
/// <param name="RulesThatTellNobody">Alert rules in force that tell nobody.</param>
public sealed record OwnOpenness(bool DemoPassword, Uri Address, bool? MayEverything, IReadOnlyList<string> EndlessTokens, int Contacts, IReadOnlyList<string> RulesThatTellNobody);

/// <summary>The list of what was left open: it stays on it until it is closed. The rules are common practice of hardening, no source; pod security as in the cluster documentation's "Pod Security Standards".</summary>
public static class LeftOpen
{
    /// <summary>All of it, the gravest first.</summary>
    /// <param name="inventory">The cluster.</param>
    /// <param name="own">Skevin itself; null for readers who need not know.</param>
    public static IReadOnlyList<OpenItem> Of(Inventory inventory, OwnOpenness? own) =>
    [
        .. Workloads(inventory).Concat(Services(inventory)).Concat(Kept(inventory)).Concat(own is null ? [] : Own(own)).OrderByDescending(item => item.Level).ThenBy(item => item.Namespace ?? "", StringComparer.Ordinal).ThenBy(item => item.Where, StringComparer.Ordinal),
    ];

    private static IEnumerable<OpenItem> Workloads(Inventory inventory)
    {
        // Pods of a workload are alike; what Skevin's agents may is under Collect, each right with its need.
        foreach (var workload in inventory.Pods.Where(pod => pod.Open is not null && pod.Namespace != Manifests.Namespace).GroupBy(pod => (pod.Namespace, pod.WorkloadKind, pod.Workload)).Select(group => group.MaxBy(pod => pod.Created)!))
        {
            var (where, ns, open) = ($"{workload.Namespace}/{workload.Workload}", workload.Namespace, workload.Open!);
            if (open.Privileged.Count > 0)
                yield return new($"privileged: {string.Join(", ", open.Privileged)}", where, ns, "Whoever takes over the container has the whole node.", "Take privileged out of its security context, and give it the one capability or device it needs.", HealthLevel.Critical);
            foreach (var variable in open.PlainSecrets)
                yield return new($"{variable} in plain text", where, ns, "Everybody who may read workloads or their history reads the secret.", "Put it into a secret, refer to that, and replace the value: it has been seen.", HealthLevel.Major);
            if (open.AsRoot.Count > 0)
                yield return new($"runs as root: {string.Join(", ", open.AsRoot)}", where, ns, "A fault in the program is a fault with root's rights in its container.", "Set runAsNonRoot and a user of its own.", HealthLevel.Minor);
            if (open.HostNetwork)
                yield return new("uses the node's network", where, ns, "It reaches everything the node reaches, past all traffic policies.", "Take hostNetwork out, unless it is the network itself.", HealthLevel.Warning);
            foreach (var folder in open.HostFolders)
                yield return new($"can write to {folder} of the node", where, ns, "What it writes there outlives it and may be run by others.", "Mount it read-only, or use a volume.", HealthLevel.Minor);
        }
    }

    private static IEnumerable<OpenItem> Services(Inventory inventory)
    {
        foreach (var service in inventory.Services)
            if (service.Type is "NodePort" or "LoadBalancer" && service.Ports.Count > 1)
                yield return new($"{service.Ports.Count} ports open to outside", $"{service.Namespace}/{service.Name}", service.Namespace, "Each port is a way in, whether anybody needs it or not.", $"Leave the one that is used, of {string.Join(", ", service.Ports.Select(port => port.Number))}.", HealthLevel.Minor);
    }

    private static IEnumerable<OpenItem> Kept(Inventory inventory)
    {
        foreach (var set in inventory.Workloads.Where(workload => workload.Kind == "StatefulSet"))
            if (inventory.Claims.Count > 0 && inventory.Claims.All(claim => claim.Namespace != set.Namespace || !claim.Name.Contains($"-{set.Name}-", StringComparison.Ordinal)))
                yield return new("keeps nothing", $"{set.Namespace}/{set.Name}", set.Namespace, "It is a stateful set without a claim for storage: what it holds is gone when its pod is.", "Give it a volume claim template.", HealthLevel.Minor);
    }

    private static IEnumerable<OpenItem> Own(OwnOpenness own)
    {
        if (own.DemoPassword)
            yield return new("the demo's password", "Skevin", null, "It stands on the sign-in page and in the README.", "Change it: your name, top right, Change the password. For real use start without SKEVIN_DEMO.", own.Address.IsLoopback ? HealthLevel.Warning : HealthLevel.Critical);
        if (own.Address.Scheme == "http")
            yield return new($"agents send to {own.Address.GetLeftPart(UriPartial.Authority)} unencrypted", "Skevin", null, "Tokens and data can be read on the way.", "Put TLS in front of the server and set SKEVIN_ADDRESS to the https address; see the README.", own.Address.IsLoopback ? HealthLevel.Warning : HealthLevel.Major);
        if (own.MayEverything == true)
            yield return new("Skevin's account may do everything", "the cluster", null, "Whoever takes over Skevin has the cluster.", "Make an account that may read, and apply what is under Collect, Manifests; connect the cluster with its kubeconfig.", HealthLevel.Minor);
        foreach (var token in own.EndlessTokens)
            yield return new("an ingest token without an end", token, null, "A token that was copied somewhere works for ever.", "Make one with an end, give it to the sender and revoke this one: Collect, Ingest tokens.", HealthLevel.Warning, "/collect");
        if (own.Contacts == 0)
            yield return new("nobody is told", "Skevin", null, "Alarms are raised and nobody hears of them.", "Name a contact under Alarms.", HealthLevel.Major, "/alarms");
        foreach (var rule in own.RulesThatTellNobody)
            yield return new("an alert rule that tells nobody", rule, null, "It is seen only by who looks at Alarms.", "Name who is told in the rule.", HealthLevel.Warning, "/alarms");
    }
}
