using System.Text.Json;
using k8s;
using Microsoft.EntityFrameworkCore;
using Skevin.ClusterApi;
using Skevin.Core.Collection;
using Skevin.Server.Clusters;
using Skevin.Server.Ingest;
using Skevin.Server.Live;
using Skevin.Server.Setup;
using Skevin.Storage;
using Skevin.Storage.Flows;

namespace Skevin.Server.Collection;

/// <summary>A roll-out that has been handed to the cluster.</summary>
public sealed record RollOut(int Revision, IReadOnlyList<string> Applied);

/// <summary>Puts a plan in force: a revision, a token where none is valid, and all objects applied in order.</summary>
public sealed class RollOutPlan(IDbContextFactory<SkevinContext> contexts, IngestTokens tokens, AddressBooks books, SkevinOptions options, AgentKeys keys, LiveFeed feed, TimeProvider clock)
{
    /// <summary>Most bytes an agent keeps.</summary>
    public const long BufferBytes = 512L << 20;

    internal static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    /// <summary>The objects of a revision.</summary>
    public async Task<IReadOnlyList<Manifest>> Objects(WatchedCluster cluster, int revision, CollectionPlan plan, string? token, CancellationToken stop, bool held = false) =>
        Manifests.For(new AgentConfiguration(cluster.Name, revision, options.Address, plan, BufferBytes, await keys.HashOf(cluster.Id, stop)), token, options.AgentImage, held);

    /// <summary>Rolls a plan out.</summary>
    /// <param name="cluster">Where.</param>
    /// <param name="plan">What; null for the plan in force, applied again.</param>
    /// <param name="newToken">Whether the agents get a new token even if theirs is valid.</param>
    /// <param name="by">The person.</param>
    /// <param name="stop">Cancels.</param>
    /// <param name="oneFirst">Whether only the agent of one node is replaced, and the others wait until a person lets it go on.</param>
    public async Task<Outcome<RollOut>> Run(WatchedCluster cluster, CollectionPlan? plan, bool newToken, string by, CancellationToken stop, bool oneFirst = false)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var last = await context.PlanRevisions.Where(row => row.ClusterId == cluster.Id).OrderByDescending(row => row.Revision).FirstOrDefaultAsync(stop);
        PlanRevisionRow row;
        if (plan is not null)
        {
            if (plan.Problems().ToArray() is { Length: > 0 } problems)
                return new Problem(400, "The plan cannot be rolled out.", string.Join(" ", problems));
            row = new PlanRevisionRow
            {
                ClusterId = cluster.Id, Revision = (last?.Revision ?? 0) + 1, Plan = JsonSerializer.Serialize(plan, Json), CreatedAt = clock.GetUtcNow(), CreatedBy = by,
            };
            context.PlanRevisions.Add(row);
            await context.SaveChangesAsync(stop);
        }
        else if (last is not { RemovedAt: null })
        {
            return new Problem(409, "There is no plan yet.", "Make a plan under Collect and roll it out.");
        }
        else
        {
            row = last;
            plan = JsonSerializer.Deserialize<CollectionPlan>(last.Plan, Json)!;
        }

        var now = clock.GetUtcNow();
        var valid = await context.IngestTokens.Where(token => token.ClusterId == cluster.Id && token.ForAgents && token.RevokedAt == null && (token.ExpiresAt == null || token.ExpiresAt > now)).ToListAsync(stop);
        string? secret = null;
        if (valid.Count == 0 || newToken)
            secret = (await tokens.Make($"agents of {cluster.Name}", cluster.Id, true, null, by, stop)).Token;
        var applied = new List<string>();
        foreach (var manifest in await Objects(cluster, row.Revision, plan, secret, stop, oneFirst))
        {
            try
            {
                await ManifestApply.Apply(cluster.Client, manifest, stop);
                applied.Add($"{manifest.Kind} {manifest.Name}");
            }
            catch (Exception trouble) when (trouble is k8s.Autorest.HttpOperationException or HttpRequestException)
            {
                return new Problem(502, $"The cluster refused {manifest.Kind} {manifest.Name}.",
                    $"{InventoryWatch.Words(trouble)} {applied.Count} objects before it were applied. Give the kubeconfig's account the right, or correct the object, and roll out again.");
            }
        }
        try
        {
            if (oneFirst)
                await HoldRollOut.ReplaceFirst(cluster, stop);
            await ForgetConfigurations(cluster, row.Revision, stop);
            await ForgetCollectors(cluster, plan, stop);
        }
        catch (Exception trouble) when (trouble is k8s.Autorest.HttpOperationException or HttpRequestException)
        {
            return new Problem(502, "The objects are applied, but the first agent could not be replaced or earlier configurations not be removed.", $"{InventoryWatch.Words(trouble)} Give the kubeconfig's account the right, and roll out again.");
        }
        // Old tokens are revoked only when the new one is in the cluster.
        if (secret is not null)
            foreach (var old in valid)
                await tokens.Revoke(old.Id, stop);
        books.NameOutside(cluster.Name, plan.Flows);
        row.AppliedAt = clock.GetUtcNow();
        context.Marks.Add(new MarkRow { Id = Guid.CreateVersion7(), ClusterId = cluster.Id, At = row.AppliedAt.Value, Kind = "rollout", Text = $"plan revision {row.Revision}" });
        await context.SaveChangesAsync(stop);
        feed.Tell("collection", cluster.Name);
        return new RollOut(row.Revision, applied);
    }

    // What no pod is given any more goes; the one before stays, so that going back by hand finds it.
    private static async Task ForgetConfigurations(WatchedCluster cluster, int revision, CancellationToken stop)
    {
        var kept = cluster.Watch.Current.Pods.Where(pod => pod.Namespace == Manifests.Namespace).SelectMany(pod => pod.Configurations ?? [])
            .Append(Manifests.ConfigurationOf(Text(revision))).Append(Manifests.ConfigurationOf(Text(revision - 1))).ToHashSet();
        var there = await cluster.Client.CoreV1.ListNamespacedConfigMapAsync(Manifests.Namespace, labelSelector: "app.kubernetes.io/managed-by=skevin", cancellationToken: stop);
        foreach (var old in there.Items.Where(item => !kept.Contains(item.Metadata.Name)))
            await cluster.Client.CoreV1.DeleteNamespacedConfigMapAsync(old.Metadata.Name, Manifests.Namespace, cancellationToken: stop);
    }

    // Collectors and headers the plan has no use for any more.
    private static async Task ForgetCollectors(WatchedCluster cluster, CollectionPlan plan, CancellationToken stop)
    {
        var needed = Manifests.Collectors(plan).Select(collector => collector.Name).ToHashSet();
        const string Ours = "app.kubernetes.io/managed-by=skevin";
        foreach (var old in (await cluster.Client.AppsV1.ListNamespacedDeploymentAsync(Manifests.Namespace, labelSelector: Ours, cancellationToken: stop)).Items.Where(item => !needed.Contains(item.Metadata.Name)))
            await cluster.Client.AppsV1.DeleteNamespacedDeploymentAsync(old.Metadata.Name, Manifests.Namespace, cancellationToken: stop);
        foreach (var old in (await cluster.Client.CoreV1.ListNamespacedServiceAsync(Manifests.Namespace, labelSelector: Ours, cancellationToken: stop)).Items.Where(item => !needed.Contains(item.Metadata.Name)))
            await cluster.Client.CoreV1.DeleteNamespacedServiceAsync(old.Metadata.Name, Manifests.Namespace, cancellationToken: stop);
        var secrets = (plan.Destinations ?? []).Select(destination => destination.Secret).Append(Manifests.TokenSecret).ToHashSet();
        foreach (var old in (await cluster.Client.CoreV1.ListNamespacedSecretAsync(Manifests.Namespace, labelSelector: Ours, cancellationToken: stop)).Items.Where(item => !secrets.Contains(item.Metadata.Name)))
            await cluster.Client.CoreV1.DeleteNamespacedSecretAsync(old.Metadata.Name, Manifests.Namespace, cancellationToken: stop);
    }

    private static string Text(int revision) => revision.ToString(System.Globalization.CultureInfo.InvariantCulture);
}
