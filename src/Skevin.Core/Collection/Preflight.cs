using Skevin.Core.Clusters;

namespace Skevin.Core.Collection;

/// <summary>A right a roll-out takes of the account that does it.</summary>
public sealed record RollOutRight(string Verb, string Group, string Resource);

/// <summary>What only the cluster and the server know.</summary>
/// <param name="Denied">Rights of <see cref="Preflight.RightsFor"/> the account does not have; null where the cluster did not say.</param>
/// <param name="Server">Address at which the agents are to reach the server.</param>
/// <param name="ClusterApi">Address of the cluster's API.</param>
/// <param name="Image">Image of the agent.</param>
public sealed record PreflightEvidence(IReadOnlyList<RollOutRight>? Denied, Uri Server, Uri ClusterApi, string Image);

/// <summary>Looks before a roll-out at what would hold it up.</summary>
public static class Preflight
{
    // As the manifests ask for it.
    private const double AgentCores = 0.05;
    private const double AgentBytes = 64 << 20;

    /// <summary>Rights the account needs to put a plan in force: to apply every kind of object, to take away what is of no use any more, and to hold what it gives to the agents' role (source: the cluster's documentation, "Privilege escalation prevention").</summary>
    public static IReadOnlyList<RollOutRight> RightsFor(CollectionPlan plan) =>
    [
        .. new[] { ("", "namespaces"), ("", "serviceaccounts"), ("", "configmaps"), ("", "secrets"), ("rbac.authorization.k8s.io", "clusterroles"), ("rbac.authorization.k8s.io", "clusterrolebindings"), ("apps", "daemonsets") }
            .Concat(Manifests.Collectors(plan).Any() ? [("apps", "deployments")] : []).Concat(Manifests.NeedsTraceCollector(plan) ? [("", "services")] : []).Select(one => new RollOutRight("patch", one.Item1, one.Item2)),
        .. new[] { ("", "configmaps"), ("", "secrets"), ("", "services"), ("apps", "deployments") }.SelectMany(one => new[] { new RollOutRight("list", one.Item1, one.Item2), new RollOutRight("delete", one.Item1, one.Item2) }),
        .. Permissions.For(plan).SelectMany(right => right.ApiGroups.SelectMany(group => right.Resources.SelectMany(resource => right.Verbs.Select(verb => new RollOutRight(verb, group, resource))))).Distinct(),
    ];

    /// <summary>All items, what holds up most first.</summary>
    public static IReadOnlyList<ReadinessItem> Of(CollectionPlan plan, Inventory inventory, PreflightEvidence evidence) =>
        [.. new[] { Rights(evidence), Nodes(inventory), Room(inventory), Way(evidence), Image(evidence), Endpoints(plan, inventory), Spans(plan, inventory) }.OfType<ReadinessItem>().OrderByDescending(item => item.Level)];

    private static ReadinessItem Rights(PreflightEvidence evidence) => evidence.Denied switch
    {
        null => new("Rights of the account", HealthLevel.Warning, "the cluster does not say what it may", "Try the roll-out; what is refused is named."),
        { Count: 0 } => new("Rights of the account", HealthLevel.Clear, "it may apply everything, and holds what it gives", null),
        var denied => new("Rights of the account", HealthLevel.Critical, "it may not " + string.Join(", ", denied.GroupBy(right => right.Verb).Select(group => $"{group.Key} {string.Join(", ", group.Select(right => right.Resource).Distinct())}")), "Give them to the account of the kubeconfig, or connect the cluster with another one."),
    };

    private static ReadinessItem Nodes(Inventory inventory)
    {
        var away = inventory.Nodes.Where(node => !node.Ready).Select(node => node.Name).ToArray();
        return away.Length == 0 ? new("Nodes", HealthLevel.Clear, $"all {inventory.Nodes.Count} can take an agent", null)
            : new("Nodes", away.Length == inventory.Nodes.Count ? HealthLevel.Critical : HealthLevel.Minor, $"{string.Join(", ", away)} {(away.Length == 1 ? "is" : "are")} not ready", "The roll-out waits there; nothing is collected from it until it is back.");
    }

    // Where an agent runs already, its room is taken already.
    private static ReadinessItem Room(Inventory inventory)
    {
        var has = inventory.Pods.Where(pod => pod.Namespace == Manifests.Namespace && pod.Workload == Manifests.Agent).Select(pod => pod.Node).ToHashSet();
        var loads = Capacity.ByNode(inventory).ToDictionary(load => load.Node);
        var tight = inventory.Nodes.Where(node => !has.Contains(node.Name) && (node.Allocatable.Cores - loads[node.Name].Requests.Cores < AgentCores || node.Allocatable.Memory - loads[node.Name].Requests.Memory < AgentBytes)).Select(node => node.Name).ToArray();
        return tight.Length == 0 ? new("Room", HealthLevel.Clear, "every node has room for 50m of processor and 64 MiB", null)
            : new("Room", HealthLevel.Major, $"{string.Join(", ", tight)} {(tight.Length == 1 ? "has" : "have")} no room for 50m of processor and 64 MiB", "The agent stays pending there. Lower requests that are not used, or add a node.");
    }

    private static ReadinessItem Way(PreflightEvidence evidence)
    {
        var (server, api) = (evidence.Server, evidence.ClusterApi);
        if (server.IsLoopback && !api.IsLoopback)
            return new("Way to this server", HealthLevel.Critical, $"{server} leads to the agents' own machines", "Set SKEVIN_ADDRESS to an address of this server that pods reach, and start it again.");
        return server.Scheme == "http" && !server.IsLoopback ? new("Way to this server", HealthLevel.Warning, $"{server} is not encrypted", "Put TLS in front of it and set SKEVIN_ADDRESS to https://…: the ingest token goes this way.")
            : new("Way to this server", HealthLevel.Clear, server.ToString(), null);
    }

    private static ReadinessItem Image(PreflightEvidence evidence) =>
        // A name without a registry's host is looked for where the runtime looks by itself. Source: OCI distribution practice, the first part names a host where it has a dot, a port or is localhost.
        evidence.ClusterApi.IsLoopback || evidence.Image.Split('/')[0] is var host && evidence.Image.Contains('/') && (host.Contains('.') || host.Contains(':') || host == "localhost")
            ? new("Image of the agent", HealthLevel.Clear, evidence.Image, null)
            : new("Image of the agent", HealthLevel.Minor, $"{evidence.Image} names no registry", "Push the agent's image to a registry the nodes pull from, and set SKEVIN_AGENT_IMAGE to its whole name.");

    private static ReadinessItem? Endpoints(CollectionPlan plan, Inventory inventory)
    {
        if (plan.Metrics is not { Endpoints: true } metrics)
            return null;
        var count = inventory.Pods.Count(pod => Arrivals.ExpectedSources.IsCollected(metrics, pod) && pod.Containers.Any(container => container.Ports.Any(port => port.Name == metrics.EndpointPort)));
        return count > 0 ? new("Application endpoints", HealthLevel.Clear, $"{count} pods have a port named {metrics.EndpointPort}", null)
            : new("Application endpoints", HealthLevel.Warning, $"no chosen pod has a port named {metrics.EndpointPort}", "Under Sources stands what each workload offers; name the port in the plan as it is called there.");
    }

    private static ReadinessItem? Spans(CollectionPlan plan, Inventory inventory)
    {
        if (plan.Traces is not { } traces)
            return null;
        var count = inventory.Pods.Where(pod => Arrivals.ExpectedSources.Chosen(traces.Namespaces, traces.Only, pod) && pod.Containers.Any(container => container.SendsSpans)).Select(pod => (pod.Namespace, pod.Workload)).Distinct().Count();
        return count > 0 ? new("Spans", HealthLevel.Clear, $"{count} workloads say that they send some", null)
            : new("Spans", HealthLevel.Warning, "no chosen workload says that it sends any", $"Set OTEL_EXPORTER_OTLP_ENDPOINT to http://$(HOST_IP):{Manifests.SpanPort} in the pods that have an SDK.");
    }
}
