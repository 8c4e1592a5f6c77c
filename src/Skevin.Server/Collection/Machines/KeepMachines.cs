using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Arrivals;
using Skevin.Core.Collection;
using Skevin.Server.Clusters;
using Skevin.Server.Ingest;
using Skevin.Server.Live;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Collection.Machines;

/// <summary>A machine outside of clusters.</summary>
/// <param name="Revision">Of its plan.</param>
/// <param name="State">When its agent asked for the plan, and whether its token may push.</param>
/// <param name="AskedRevision">The revision it was given last; null while it never asked.</param>
public sealed record MachineView(string Name, int Revision, MachinePlan Plan, DateTimeOffset CreatedAt, string CreatedBy, MachineState State, int? AskedRevision);

/// <summary>A machine as it was kept, with what to do on it where that is news.</summary>
/// <param name="Install">Lines for the machine's shell, with its token, which is shown this once; null where the agent has one.</param>
public sealed record KeptMachine(MachineView Machine, string? Install);

/// <summary>A machine that is forgotten.</summary>
/// <param name="Remove">Lines for its shell that take the agent away.</param>
public sealed record ForgottenMachine(string Remove);

/// <summary>Plans for machines outside of clusters, each known by a token of its own.</summary>
public sealed class KeepMachines(IDbContextFactory<SkevinContext> contexts, IngestTokens tokens, SkevinOptions options, LiveFeed feed, TimeProvider clock)
{
    private const int Most = 200;

    /// <summary>All machines beside a cluster, by name.</summary>
    public async Task<IReadOnlyList<MachineView>> All(int cluster, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var rows = await (from machine in context.Machines.AsNoTracking()
                          where machine.ClusterId == cluster
                          join token in context.IngestTokens.AsNoTracking() on machine.TokenId equals token.Id into found
                          from token in found.DefaultIfEmpty()
                          orderby machine.Name
                          select new { machine, token }).ToListAsync(stop);
        return [.. rows.Select(row => View(row.machine, row.token is not null && tokens.IsValid(row.token)))];
    }

    /// <summary>Keeps a plan: of a new machine, which gets a token, or the next revision of one that is there.</summary>
    /// <param name="cluster">Beside which.</param>
    /// <param name="name">The machine.</param>
    /// <param name="plan">Its plan; null leaves that of a machine that is there.</param>
    /// <param name="newToken">Whether it gets a new token, and the one it has is revoked.</param>
    /// <param name="by">The person.</param>
    /// <param name="stop">Cancels.</param>
    public async Task<Outcome<KeptMachine>> Keep(WatchedCluster cluster, string name, MachinePlan? plan, bool newToken, string by, CancellationToken stop)
    {
        if (!MachineNames.Fit(name))
            return new Problem(400, "The machine needs another name.", "Small letters, digits, '-' and '.', up to 60; best the name it has on the network.");
        if (plan?.Problems().ToArray() is { Length: > 0 } problems)
            return new Problem(400, "The plan cannot be kept.", string.Join(" ", problems));
        await using var context = await contexts.CreateDbContextAsync(stop);
        var row = await context.Machines.FirstOrDefaultAsync(machine => machine.ClusterId == cluster.Id && machine.Name == name, stop);
        if (row is null && plan is null)
            return NotThere(name);
        if (row is null && await context.Machines.CountAsync(machine => machine.ClusterId == cluster.Id, stop) >= Most)
            return new Problem(409, "There are too many machines.", $"At most {Most} beside a cluster; remove one that is no longer used.");
        string? install = null;
        if (row is null || newToken)
        {
            var (made, token) = await tokens.Make($"machine {name}", cluster.Id, false, null, by, stop);
            install = MachineSetup.Install(name, options.Address, token);
            if (row is not null)
                await tokens.Revoke(row.TokenId, stop);
            row ??= context.Machines.Add(new MachineRow { ClusterId = cluster.Id, Name = name, Plan = "", CreatedAt = clock.GetUtcNow(), CreatedBy = by }).Entity;
            row.TokenId = made.Id;
        }
        if (plan is not null && JsonSerializer.Serialize(plan, RollOutPlan.Json) is var text && (row.Plan.Length == 0 || JsonSerializer.Serialize(Plan(row), RollOutPlan.Json) != text))
            (row.Plan, row.Revision) = (text, row.Revision + 1);
        await context.SaveChangesAsync(stop);
        feed.Tell("collection", cluster.Name);
        return new KeptMachine((await All(cluster.Id, stop)).First(machine => machine.Name == name), install);
    }

    /// <summary>Forgets a machine and revokes its token. What it sent stays until its time.</summary>
    public async Task<Outcome<ForgottenMachine>> Remove(WatchedCluster cluster, string name, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        if (await context.Machines.FirstOrDefaultAsync(machine => machine.ClusterId == cluster.Id && machine.Name == name, stop) is not { } row)
            return NotThere(name);
        context.Machines.Remove(row);
        await context.SaveChangesAsync(stop);
        await tokens.Revoke(row.TokenId, stop);
        feed.Tell("collection", cluster.Name);
        return new ForgottenMachine(MachineSetup.Remove);
    }

    /// <summary>What the agent with a token is to collect, and notes that it asked. Null where the token is of no machine.</summary>
    public async Task<AgentConfiguration?> Ask(Guid token, string cluster, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        if (await context.Machines.FirstOrDefaultAsync(machine => machine.TokenId == token, stop) is not { } row)
            return null;
        row.InstalledAt ??= clock.GetUtcNow();
        (row.AskedAt, row.AskedRevision) = (clock.GetUtcNow(), row.Revision);
        await context.SaveChangesAsync(stop);
        var plan = Plan(row);
        return new AgentConfiguration(cluster, row.Revision, options.Address, plan.Plan, RollOutPlan.BufferBytes, Machine: plan);
    }

    private static MachinePlan Plan(MachineRow row) => JsonSerializer.Deserialize<MachinePlan>(row.Plan, RollOutPlan.Json)!;

    private static MachineView View(MachineRow row, bool valid) =>
        new(row.Name, row.Revision, Plan(row), row.CreatedAt, row.CreatedBy, new MachineState(row.Name, row.InstalledAt, row.AskedAt, valid), row.AskedRevision);

    private static Problem NotThere(string name) => new(404, "No such machine.", $"No machine '{name}' stands beside this cluster.");
}
