using System.Collections.Concurrent;
using System.Security.Claims;
using System.Text.Json;
using k8s.Autorest;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Skevin.ClusterApi;
using Skevin.Core.Access;
using Skevin.Core.Clusters;
using Skevin.Server.Access;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Clusters;

/// <summary>Lists what was left open in a cluster and in Skevin itself, for the reader's scope.</summary>
public sealed class ListLeftOpen(IDbContextFactory<SkevinContext> contexts, SkevinOptions options, IServiceScopeFactory scopes)
{
    private readonly ConcurrentDictionary<int, bool> _mayEverything = new();

    /// <summary>The list. What concerns Skevin itself is for those who install and keep it.</summary>
    public async Task<IReadOnlyList<OpenItem>> Run(WatchedCluster cluster, ClaimsPrincipal user, CancellationToken stop)
    {
        var scope = user.Scope();
        var tells = scope.Namespaces is null && (user.Roles() & (Roles.Installer | Roles.Keeper)) != 0;
        return LeftOpen.Of(cluster.Watch.Current.Visible(cluster.Name, scope), tells ? await Own(cluster, stop) : null);
    }

    private async Task<OwnOpenness> Own(WatchedCluster cluster, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        // The agents' own token is replaced by every hand-out; it is the others that are forgotten.
        var tokens = await context.IngestTokens.AsNoTracking().Where(token => token.ClusterId == cluster.Id && !token.ForAgents && token.RevokedAt == null && token.ExpiresAt == null).Select(token => token.Name).ToListAsync(stop);
        var rules = await context.AlarmRules.AsNoTracking().Where(rule => rule.ClusterId == cluster.Id && rule.InForce).Select(rule => new { rule.Name, rule.Document }).ToListAsync(stop);
        return new OwnOpenness(
            options.Demo && await HasKnownPassword(), new Uri(options.Address), await MayEverything(cluster, stop), tokens, await context.Contacts.CountAsync(stop),
            [.. rules.Where(rule => !JsonDocument.Parse(rule.Document).RootElement.TryGetProperty("tell", out var tell) || tell.ValueKind != JsonValueKind.Array || tell.GetArrayLength() == 0).Select(rule => rule.Name)]);
    }

    private async Task<bool> HasKnownPassword()
    {
        await using var services = scopes.CreateAsyncScope();
        var people = services.ServiceProvider.GetRequiredService<UserManager<Person>>();
        return await people.FindByEmailAsync(SkevinOptions.DemoPerson) is { } person && await people.CheckPasswordAsync(person, SkevinOptions.KnownPassword);
    }

    private async Task<bool?> MayEverything(WatchedCluster cluster, CancellationToken stop)
    {
        if (_mayEverything.TryGetValue(cluster.Id, out var known))
            return known;
        try
        {
            return _mayEverything[cluster.Id] = (await ManifestApply.May(cluster.Client, "*", "*", "*", null, stop)).Allowed;
        }
        catch (Exception trouble) when (trouble is HttpOperationException or HttpRequestException)
        {
            return null;
        }
    }
}
