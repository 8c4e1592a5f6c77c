using System.Security.Claims;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Core.Clusters;
using Skevin.Server.Access;
using Skevin.Server.Ingest;
using Skevin.Server.People;
using Skevin.Server.Setup;
using Skevin.Storage;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Clusters;

/// <summary>A cluster in the list.</summary>
/// <param name="Ready">Whether its API answers and all nodes are ready.</param>
/// <param name="Nodes">How many nodes.</param>
/// <param name="Trouble">Why it cannot be read, or null.</param>
public sealed record ClusterSummary(string Name, bool Ready, int Nodes, int ReadyNodes, int Pods, int ReadyPods, string Version, string Address, HealthLevel Level, string? Trouble);

/// <summary>A node with its load.</summary>
public sealed record NodeView(
    string Name, bool Ready, IReadOnlyList<string> Because, IReadOnlyList<string> Roles, IReadOnlyList<string> Addresses,
    Resources Allocatable, Resources Requests, Resources Limits, int Pods, string Version, DateTimeOffset Created);

/// <summary>A namespace with the health of what is in it.</summary>
public sealed record NamespaceView(string Name, int Pods, int ReadyPods, HealthLevel Level);

/// <summary>A workload.</summary>
public sealed record WorkloadView(string Namespace, string Kind, string Name, int Desired, int Ready, int Updated, int Restarts, HealthLevel Level, IReadOnlyList<string> Because);

/// <summary>A container.</summary>
public sealed record ContainerView(string Name, string Image, bool Ready, int Restarts, string State, string? Reason, Resources Request, Resources Limit, Termination? Last);

/// <summary>A pod.</summary>
public sealed record PodView(
    string Namespace, string Name, string Node, string Phase, string WorkloadKind, string Workload, IReadOnlyList<string> Addresses, bool Ready, int Restarts,
    HealthLevel Level, IReadOnlyList<string> Because, IReadOnlyList<ContainerView> Containers, DateTimeOffset Created);

/// <summary>The inventory of a cluster as one reader may see it.</summary>
/// <param name="Complete">Whether every list was read once.</param>
/// <param name="Errors">What cannot be read, in the cluster's words.</param>
/// <param name="WholeCluster">Whether the reader sees nodes and all namespaces.</param>
/// <param name="Readiness">The readiness list; empty for readers of a part.</param>
public sealed record InventoryView(
    string Cluster, bool Complete, IReadOnlyList<string> Errors, bool WholeCluster, IReadOnlyList<NodeView> Nodes, IReadOnlyList<NamespaceView> Namespaces,
    IReadOnlyList<WorkloadView> Workloads, IReadOnlyList<PodView> Pods, IReadOnlyList<ReadinessItem> Readiness);

/// <summary>Station 1.</summary>
public static class ClusterEndpoints
{
    /// <summary>Adds its services.</summary>
    public static void AddClusters(this IServiceCollection services)
    {
        services.AddSingleton<ClusterWatchers>();
        services.AddHostedService(provider => provider.GetRequiredService<ClusterWatchers>());
        services.AddSingleton<ConnectCluster>();
        services.AddSingleton<ListLeftOpen>();
        services.AddSingleton<AgentCalls>();
        services.AddSingleton<ProbeCluster>();
    }

    /// <summary>Maps its endpoints.</summary>
    public static void MapClusters(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/api/clusters", (ClaimsPrincipal user, ClusterWatchers watchers) =>
            watchers.All.Where(cluster => user.Scope().Sees(cluster.Name)).Select(cluster => Summary(cluster, user.Scope())).ToArray()).Needs(Roles.Reader);
        routes.MapPost("/api/clusters", async (ConnectRequest body, ClaimsPrincipal user, ConnectCluster connect, AuditNote note, CancellationToken stop) =>
        {
            var connected = await connect.Run(body, user.PersonName(), stop);
            note.About = note.Cluster = connected.Value?.Name;
            return connected.Http();
        }).Needs(Roles.Installer).Audits("connected a cluster");
        routes.MapGet("/api/clusters/{name}", Results<Ok<InventoryView>, ProblemHttpResult> (string name, ClaimsPrincipal user, ClusterWatchers watchers) =>
            watchers.Visible(name, user) is { } cluster ? TypedResults.Ok(View(cluster, user.Scope())) : NotThere(name).Http()).Needs(Roles.Reader);
        routes.MapGet("/api/clusters/{name}/objects", Results<Ok<ObjectsView>, ProblemHttpResult> (string name, ClaimsPrincipal user, ClusterWatchers watchers) =>
            watchers.Visible(name, user) is { } cluster ? TypedResults.Ok(ClusterObjectViews.Of(cluster, user.Scope())) : NotThere(name).Http()).Needs(Roles.Reader);
        routes.MapGet("/api/clusters/{name}/configurations/{ns}/{configuration}", async Task<Results<Ok<Dictionary<string, string>>, ProblemHttpResult>> (
            string name, string ns, string configuration, ClaimsPrincipal user, ClusterWatchers watchers, CancellationToken stop) =>
        {
            if (watchers.Visible(name, user) is not { } cluster)
                return NotThere(name).Http();
            if (!user.Scope().Sees(name, ns))
                return new Problem(404, "No such configuration object.", "It is not there, or not for you.").Http();
            return (await ClusterObjectViews.Text(cluster, ns, configuration, stop)).Http();
        }).Needs(Roles.Reader);
        routes.MapGet("/api/clusters/{name}/left-open", async Task<Results<Ok<IReadOnlyList<OpenItem>>, ProblemHttpResult>> (
            string name, ClaimsPrincipal user, ClusterWatchers watchers, ListLeftOpen list, CancellationToken stop) =>
            watchers.Visible(name, user) is { } cluster ? TypedResults.Ok(await list.Run(cluster, user, stop)) : NotThere(name).Http()).Needs(Roles.Reader);
        routes.MapPost("/api/clusters/{name}/probe", async Task<Results<Ok<ProbeView>, ProblemHttpResult>> (
            string name, ProbeRequest body, ClaimsPrincipal user, ClusterWatchers watchers, ProbeCluster probe, AuditNote note, CancellationToken stop) =>
        {
            (note.Cluster, note.Detail) = (name, $"{body.Kind.ToString().ToLowerInvariant()} {body.Namespace}/{body.Name}".TrimEnd('/'));
            return watchers.Visible(name, user) is { } cluster ? (await probe.Run(cluster, body, user.Scope(), stop)).Http() : NotThere(name).Http();
        }).Needs(Roles.Responder).Audits("probed a cluster");
        routes.MapDelete("/api/clusters/{name}", async Task<Results<NoContent, ProblemHttpResult>> (string name, ClaimsPrincipal user, ClusterWatchers watchers,
            IDbContextFactory<SkevinContext> contexts, SeriesIndex index, IngestTokens tokens, CancellationToken stop) =>
        {
            if (watchers.Visible(name, user) is not { } cluster)
                return NotThere(name).Http();
            await DisconnectCluster.Run(cluster, watchers, contexts, index, tokens, stop);
            return TypedResults.NoContent();
        }).Needs(Roles.Installer).Audits("disconnected a cluster");
    }

    /// <summary>A cluster, if this person may see it.</summary>
    public static WatchedCluster? Visible(this ClusterWatchers watchers, string? name, ClaimsPrincipal user) =>
        name is not null && user.Scope().Sees(name) ? watchers.Find(name) : null;

    /// <summary>The answer where a cluster is not there, or not for this person.</summary>
    public static Problem NotThere(string? name) =>
        new(404, "No such cluster.", $"No cluster '{name}' is connected that you may see. Connect it under Clusters.");

    /// <summary>What a reader may see of an inventory.</summary>
    public static Inventory Visible(this Inventory inventory, string cluster, AccessScope scope) => scope.Namespaces is null ? inventory : inventory with
    {
        Nodes = [],
        Namespaces = [.. inventory.Namespaces.Where(ns => scope.Sees(cluster, ns.Name))],
        Workloads = [.. inventory.Workloads.Where(workload => scope.Sees(cluster, workload.Namespace))],
        Pods = [.. inventory.Pods.Where(pod => scope.Sees(cluster, pod.Namespace))],
        Services = [.. inventory.Services.Where(one => scope.Sees(cluster, one.Namespace))],
        EntryPoints = [.. inventory.EntryPoints.Where(one => scope.Sees(cluster, one.Namespace))],
        Configurations = [.. inventory.Configurations.Where(one => scope.Sees(cluster, one.Namespace))],
        StorageClasses = [],
        Claims = [.. inventory.Claims.Where(one => scope.Sees(cluster, one.Namespace))],
    };

    private static ClusterSummary Summary(WatchedCluster cluster, AccessScope scope)
    {
        var all = cluster.Watch.Current;
        var inventory = all.Visible(cluster.Name, scope);
        var ready = all.Nodes.Count(node => node.Ready);
        var trouble = cluster.Watch.Errors.Select(pair => $"{pair.Key}: {pair.Value}").FirstOrDefault();
        var nodes = all.Nodes.ToDictionary(node => node.Name);
        var worst = inventory.Pods.Select(pod => HealthOf.Pod(pod, nodes.GetValueOrDefault(pod.Node)).Level).DefaultIfEmpty(HealthLevel.Clear).Max();
        var level = trouble is not null ? HealthLevel.Critical : ready < all.Nodes.Count ? HealthLevel.Major : worst;
        return new ClusterSummary(cluster.Name, trouble is null && all.Nodes.Count > 0 && ready == all.Nodes.Count, all.Nodes.Count, ready, inventory.Pods.Count,
            inventory.Pods.Count(pod => pod.Ready), all.Version, scope.Namespaces is null ? cluster.Client.BaseUri.ToString() : "", level, trouble);
    }

    private static InventoryView View(WatchedCluster cluster, AccessScope scope)
    {
        var all = cluster.Watch.Current;
        var inventory = all.Visible(cluster.Name, scope);
        var nodes = all.Nodes.ToDictionary(node => node.Name);
        var health = inventory.Pods.ToDictionary(pod => (pod.Namespace, pod.Name), pod => HealthOf.Pod(pod, nodes.GetValueOrDefault(pod.Node)));
        var byWorkload = inventory.Pods.ToLookup(pod => (pod.Namespace, pod.WorkloadKind, pod.Workload));
        var loads = Capacity.ByNode(all).ToDictionary(load => load.Node);
        return new InventoryView(
            cluster.Name, cluster.Watch.Complete, [.. cluster.Watch.Errors.Select(pair => $"{pair.Key}: {pair.Value}")], scope.Namespaces is null,
            [.. inventory.Nodes.Select(node => new NodeView(node.Name, node.Ready, HealthOf.Node(node).Because, node.Roles, node.Addresses, node.Allocatable,
                loads[node.Name].Requests, loads[node.Name].Limits, loads[node.Name].Pods, node.AgentVersion, node.Created))],
            [.. inventory.Namespaces.Select(ns =>
            {
                var pods = inventory.Pods.Where(pod => pod.Namespace == ns.Name).ToArray();
                return new NamespaceView(ns.Name, pods.Length, pods.Count(pod => pod.Ready), pods.Select(pod => health[(pod.Namespace, pod.Name)].Level).DefaultIfEmpty(HealthLevel.Clear).Max());
            })],
            [.. inventory.Workloads.Select(workload =>
            {
                var pods = byWorkload[(workload.Namespace, workload.Kind, workload.Name)].ToArray();
                var judged = HealthOf.Workload(workload, [.. pods.Select(pod => health[(pod.Namespace, pod.Name)])]);
                return new WorkloadView(workload.Namespace, workload.Kind, workload.Name, workload.Desired, workload.Ready, workload.Updated,
                    pods.Sum(pod => pod.Restarts), judged.Level, judged.Because);
            })],
            [.. inventory.Pods.Select(pod => new PodView(pod.Namespace, pod.Name, pod.Node, pod.Phase, pod.WorkloadKind, pod.Workload, pod.Addresses, pod.Ready, pod.Restarts,
                health[(pod.Namespace, pod.Name)].Level, health[(pod.Namespace, pod.Name)].Because,
                [.. pod.Containers.Select(container => new ContainerView(container.Name, container.Image, container.Ready, container.Restarts, container.State,
                    container.Reason, container.Request, container.Limit, container.Last))], pod.Created))],
            scope.Namespaces is null ? Readiness.Of(all) : []);
    }
}
