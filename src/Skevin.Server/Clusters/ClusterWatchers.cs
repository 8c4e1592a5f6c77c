using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using k8s;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Skevin.ClusterApi;
using Skevin.Core.Clusters;
using Skevin.Server.Collection;
using Skevin.Server.Live;
using Skevin.Storage;
using Skevin.Storage.Flows;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Clusters;

/// <summary>A connected cluster while the server runs.</summary>
public sealed record WatchedCluster(int Id, string Name, Kubernetes Client, InventoryWatch Watch);

/// <summary>Watches every connected cluster and tells pages what changed.</summary>
public sealed class ClusterWatchers(
    IDbContextFactory<SkevinContext> contexts, IDataProtectionProvider protection, AddressBooks books, SeriesIndex index, PlansInForce plans, LiveFeed feed, TimeProvider clock, ILogger<ClusterWatchers> log) : BackgroundService
{
    private sealed record Running(WatchedCluster Cluster, CancellationTokenSource Stop)
    {
        public int Dirty = 1;
        public Dictionary<string, int> Restarts { get; } = [];
    }

    private readonly ConcurrentDictionary<string, Running> _running = new();
    private readonly HashSet<int> _tried = [];
    private readonly IDataProtector _protector = protection.CreateProtector("kubeconfig");

    /// <summary>A cluster by name, or null where none of that name is connected.</summary>
    public WatchedCluster? Find(string name) => _running.GetValueOrDefault(name)?.Cluster;

    /// <summary>All connected clusters.</summary>
    public IReadOnlyList<WatchedCluster> All => [.. _running.Values.Select(running => running.Cluster).OrderBy(cluster => cluster.Name, StringComparer.Ordinal)];

    /// <summary>Encrypts a kubeconfig for the database.</summary>
    public string Protect(string kubeconfig) => _protector.Protect(kubeconfig);

    /// <summary>Begins to watch a cluster.</summary>
    public void Begin(ClusterRow row)
    {
        // One cluster that cannot be opened must not keep the server from its other work.
        Kubernetes? client;
        string? error;
        try
        {
            client = ClusterConnection.FromKubeconfig(_protector.Unprotect(row.ProtectedKubeconfig), out error);
        }
        catch (CryptographicException broken)
        {
            (client, error) = (null, broken.Message);
        }
        if (client is null)
        {
            log.LogError("The stored kubeconfig of {Cluster} cannot be used: {Error} Disconnect the cluster and connect it again", row.Name, error);
            return;
        }
        var watch = new InventoryWatch(client);
        var running = new Running(new WatchedCluster(row.Id, row.Name, client, watch), new CancellationTokenSource());
        if (!_running.TryAdd(row.Name, running))
            return;
        watch.Changed += () => Interlocked.Exchange(ref running.Dirty, 1);
        _ = Task.Run(() => watch.Run(running.Stop.Token));
    }

    /// <summary>Ends watching a cluster.</summary>
    public void End(string name)
    {
        if (!_running.TryRemove(name, out var running))
            return;
        running.Stop.Cancel();
        running.Cluster.Client.Dispose();
    }

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromSeconds(0.5));
        try
        {
            for (var tick = 0; tick == 0 || await timer.WaitForNextTickAsync(stoppingToken); tick++)
            {
                if (tick % 20 == 0)
                    await Follow(stoppingToken);
                foreach (var running in _running.Values.Where(running => Interlocked.Exchange(ref running.Dirty, 0) == 1))
                {
                    try
                    {
                        await NoteRestarts(running, stoppingToken);
                        // Half a list must not end the leases of the other half.
                        if (running.Cluster.Watch.Complete)
                            await books.Learn(running.Cluster.Id, running.Cluster.Name, running.Cluster.Watch.Current, clock.GetUtcNow(), stoppingToken);
                    }
                    catch (Exception trouble) when (trouble is DbUpdateException or Npgsql.NpgsqlException)
                    {
                        log.LogWarning(trouble, "Restarts and addresses of {Cluster} could not be noted; they are noted at the next change", running.Cluster.Name);
                    }
                    feed.Tell("inventory", running.Cluster.Name);
                }
            }
        }
        catch (OperationCanceledException)
        {
            // Stopping.
        }
        foreach (var name in _running.Keys)
            End(name);
    }

    // Clusters are connected and disconnected, and their plans changed, at whichever server a person reaches.
    private async Task Follow(CancellationToken stop)
    {
        try
        {
            await using var context = await contexts.CreateDbContextAsync(stop);
            var rows = await context.Clusters.AsNoTracking().ToListAsync(stop);
            foreach (var row in rows)
            {
                books.NameOutside(row.Name, (await plans.InForce(row.Id, stop))?.Plan.Flows);
                if (!_running.ContainsKey(row.Name) && _tried.Add(row.Id))
                    Begin(row);
            }
            foreach (var gone in _running.Values.Where(running => rows.All(row => row.Id != running.Cluster.Id)).ToArray())
            {
                End(gone.Cluster.Name);
                index.RemoveCluster(gone.Cluster.Id);
            }
        }
        catch (Npgsql.NpgsqlException trouble)
        {
            log.LogWarning(trouble, "Which clusters are connected could not be read; it is read again in 10 s");
        }
    }

    // The mark's number is made of what happened, so that a second server or a restart does not note it twice.
    private async Task NoteRestarts(Running running, CancellationToken stop)
    {
        var marks = new List<MarkRow>();
        foreach (var pod in running.Cluster.Watch.Current.Pods)
            foreach (var container in pod.Containers.Where(container => container.Last is not null))
            {
                var key = $"{pod.Uid}/{container.Name}";
                var ended = container.Last!;
                var count = HashCode.Combine(container.Restarts, ended.At);
                if (running.Restarts.GetValueOrDefault(key) == count)
                    continue;
                running.Restarts[key] = count;
                marks.Add(new MarkRow
                {
                    Id = new Guid(MD5.HashData(Encoding.UTF8.GetBytes($"{running.Cluster.Name}/{key}/{ended.At:O}"))),
                    ClusterId = running.Cluster.Id, At = ended.At, Kind = "restart", Namespace = pod.Namespace,
                    Text = ended.Reason == "OOMKilled" ? $"{pod.Workload} killed for memory" : $"{pod.Workload} restarted",
                });
            }
        if (marks.Count == 0)
            return;
        await using var context = await contexts.CreateDbContextAsync(stop);
        var ids = marks.Select(mark => mark.Id).ToArray();
        var known = await context.Marks.Where(mark => ids.Contains(mark.Id)).Select(mark => mark.Id).ToListAsync(stop);
        context.Marks.AddRange(marks.Where(mark => !known.Contains(mark.Id)));
        await context.SaveChangesAsync(stop);
    }
}
