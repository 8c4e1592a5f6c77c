using System.Collections.Concurrent;
using System.Net.Http.Json;
using System.Security.Claims;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Drills;
using Skevin.Server.Access;
using Skevin.Server.Clusters;
using Skevin.Server.Live;
using Skevin.Server.Practice;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Alarms.Drills;

/// <summary>The last drill of a rule.</summary>
/// <param name="Title">The fault in words.</param>
/// <param name="EndedAt">Null while it goes on.</param>
/// <param name="Hops">The chain, hop by hop.</param>
public sealed record DrillView(Guid RuleId, string Fault, string Title, string By, DateTimeOffset BegunAt, DateTimeOffset? EndedAt, IReadOnlyList<HopView> Hops);

/// <summary>Begins a drill.</summary>
/// <param name="Fault">Name of the practice fault.</param>
public sealed record DrillRequest(string Fault);

/// <summary>What is kept of a drill.</summary>
internal sealed record DrillRecord(string Title, RuleDocument Rule, DrillTimes Times, DrillSight Sight, string? Broken);

/// <summary>
/// Drills rules: puts a fault into the practice cluster, follows it through data, alarm and message, and takes it away again. It goes on
/// in the server that began it; what it has seen is kept at every step, and one that nobody goes on with is ended by whoever notices.
/// </summary>
public sealed class RunDrills(IDbContextFactory<SkevinContext> contexts, IHttpClientFactory clients, ClusterWatchers watchers, SkevinOptions options, LiveFeed feed, TimeProvider clock, ILogger<RunDrills> log) : BackgroundService
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(500);
    private static readonly TimeSpan Forsaken = TimeSpan.FromSeconds(20);
    private readonly ConcurrentDictionary<Guid, (CancellationTokenSource Stop, Task Running)> _running = new();

    /// <summary>The last drills of rules, by rule.</summary>
    public static async Task<IReadOnlyDictionary<Guid, DrillView>> Last(SkevinContext context, CancellationToken stop) =>
        (await context.Drills.AsNoTracking().ToListAsync(stop)).ToDictionary(row => row.RuleId, View);

    /// <summary>Begins one.</summary>
    public async Task<Outcome<DrillView>> Begin(Guid rule, string fault, ClaimsPrincipal user, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        if (await SaveRule.Find(context, rule, user, stop) is not var (row, cluster))
            return new Problem(404, "No such rule.", "It was removed before.");
        if (watchers.Find(cluster)?.Client.BaseUri is not { IsLoopback: true } address || address.Port != options.PracticePort)
            return new Problem(409, "Only rules of the practice cluster can be drilled.", $"{cluster} is none: a drill puts a real fault into it.");
        if (!row.InForce)
            return new Problem(409, "The rule is not in force.", "Put it in force first: a drill follows the live way.");
        var document = JsonSerializer.Deserialize<RuleDocument>(row.Document, JudgeRules.Json)!;
        if (await context.Alarms.AnyAsync(alarm => alarm.RuleId == rule && alarm.State != AlarmState.Quiet, stop))
            return new Problem(409, "The rule is not quiet.", "It is raised or holding already, so nothing could be timed. Wait until it is cleared.");
        if (await context.Drills.AnyAsync(drill => drill.EndedAt == null, stop))
            return new Problem(409, "Another drill goes on.", "Two at once would be taken for each other. Wait for its end, or break it off.");
        FaultView[]? faults;
        try
        {
            using var client = clients.CreateClient("practice");
            faults = await client.GetFromJsonAsync<FaultView[]>("faults", stop);
        }
        catch (Exception trouble) when (trouble is HttpRequestException or TaskCanceledException && !stop.IsCancellationRequested)
        {
            return new Problem(503, "The practice cluster does not answer.", "Start it again with ./start.");
        }
        if (faults?.FirstOrDefault(one => one.Name == fault) is not { } known)
            return new Problem(404, "No such fault.", "See Clusters, Practice faults.");
        if (known.On)
            return new Problem(409, "The fault is on already.", "Switch it off first, under Clusters, Practice faults.");
        var record = new DrillRecord(known.Title, document, new DrillTimes(), new DrillSight(null, 0, 0, 0, null, []), null);
        await context.Drills.Where(drill => drill.RuleId == rule).ExecuteDeleteAsync(stop);
        var now = clock.GetUtcNow();
        var drill = new DrillRow { RuleId = rule, Fault = fault, BegunBy = user.PersonName(), BegunAt = now, SeenAt = now, Document = JsonSerializer.Serialize(record, JudgeRules.Json) };
        context.Drills.Add(drill);
        await context.SaveChangesAsync(stop);
        var end = new CancellationTokenSource();
        _running[rule] = (end, Task.Run(() => Follow(rule, fault, cluster, record, end.Token), CancellationToken.None));
        return View(drill);
    }

    /// <summary>Breaks a drill off: its fault is taken away.</summary>
    public async Task<Problem?> BreakOff(Guid rule, ClaimsPrincipal user, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        if (await SaveRule.Find(context, rule, user, stop) is null || await context.Drills.FirstOrDefaultAsync(drill => drill.RuleId == rule && drill.EndedAt == null, stop) is not { } row)
            return new Problem(404, "No drill of this rule goes on.", "It has ended before.");
        if (_running.TryGetValue(rule, out var running))
        {
            await running.Stop.CancelAsync();
            await running.Running.WaitAsync(stop);
            return null;
        }
        // It goes on in another server, which sees that it has ended.
        await Switch(row.Fault, false, stop);
        await Keep(rule, Read(row) with { Broken = "It was broken off." }, true, stop);
        return null;
    }

    /// <summary>Ends drills nobody goes on with: their server was stopped.</summary>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(TimeSpan.FromSeconds(5), clock, stoppingToken);
                await using var context = await contexts.CreateDbContextAsync(stoppingToken);
                var since = clock.GetUtcNow() - Forsaken;
                foreach (var row in await context.Drills.AsNoTracking().Where(drill => drill.EndedAt == null && drill.SeenAt < since).ToListAsync(stoppingToken))
                {
                    await Switch(row.Fault, false, stoppingToken);
                    await Keep(row.RuleId, Read(row) with { Broken = "The server was stopped meanwhile." }, true, stoppingToken);
                }
            }
            catch (Exception trouble) when (trouble is DbUpdateException or Npgsql.NpgsqlException or InvalidOperationException)
            {
                log.LogWarning("Drills could not be looked through: {Message}", trouble.Message);
            }
            catch (OperationCanceledException)
            {
                break;
            }
        }
        foreach (var (stop, running) in _running.Values)
        {
            await stop.CancelAsync();
            await running;
        }
    }

    private async Task Follow(Guid rule, string fault, string cluster, DrillRecord record, CancellationToken stop)
    {
        var read = AlarmRule.Read(record.Rule, out _)!;
        var on = false;
        try
        {
            on = await Switch(fault, true, stop);
            if (on)
                record = record with { Times = record.Times with { Fault = clock.GetUtcNow() } };
            for (var over = !on; !over;)
            {
                if (!await Keep(rule, record, false, stop))
                    return;
                feed.Tell("alarms", cluster);
                await Task.Delay(Look, clock, stop);
                record = await See(rule, read, record, stop);
                switch (DrillChain.Next(record.Times, read, record.Times.Raised is not null && record.Sight.Recipients.Count == 0, clock.GetUtcNow()))
                {
                    case DrillAct.TakeFaultAway when await Switch(fault, false, stop):
                        on = false;
                        record = record with { Times = record.Times with { FaultOver = clock.GetUtcNow() } };
                        break;
                    case DrillAct.TakeFaultAway or DrillAct.End:
                        over = true;
                        break;
                }
            }
        }
        catch (OperationCanceledException)
        {
            record = record with { Broken = "It was broken off." };
        }
        catch (Exception trouble) when (trouble is DbUpdateException or Npgsql.NpgsqlException)
        {
            record = record with { Broken = trouble.Message };
        }
        finally
        {
            // Whatever happens, no fault is left behind.
            if (on)
                await Switch(fault, false, CancellationToken.None);
            await Keep(rule, record, true, CancellationToken.None);
            _running.TryRemove(rule, out _);
            feed.Tell("alarms", cluster);
        }
    }

    // What the rule's verdicts, transitions and messages say since the fault was put in.
    private async Task<DrillRecord> See(Guid rule, AlarmRule read, DrillRecord record, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var begun = record.Times.Fault!.Value;
        var (from, until) = (begun.ToUnixTimeMilliseconds(), (record.Times.FaultOver ?? DateTimeOffset.MaxValue).ToUnixTimeMilliseconds());
        var verdicts = await context.RuleVerdicts.AsNoTracking().Where(row => row.RuleId == rule && row.SlotEnd > from).OrderBy(row => row.SlotEnd).ToListAsync(stop);
        var seen = DrillSights.Of(verdicts.Where(row => row.SlotEnd <= until).Select(row => (row.SlotEnd, JsonSerializer.Deserialize<SlotVerdict[]>(row.Verdicts, JudgeRules.Json)!)), read.Document.Below is not null);
        var times = record.Times;
        var raised = await context.AlarmEvents.AsNoTracking().Where(change => change.RuleId == rule && change.RecordedAt >= begun && change.Transition == AlarmTransition.Raised).OrderBy(change => change.RecordedAt).FirstOrDefaultAsync(stop);
        var cleared = raised is null ? null : await context.AlarmEvents.AsNoTracking().Where(change => change.AlarmId == raised.AlarmId && change.Transition == AlarmTransition.Cleared && change.RecordedAt >= raised.RecordedAt).OrderBy(change => change.RecordedAt).FirstOrDefaultAsync(stop);
        async Task<List<MessageRow>> Messages(AlarmEventRow? change) => change is null ? [] : await context.Messages.AsNoTracking().Where(message => message.EventId == change.Id).ToListAsync(stop);
        var (told, toldOver) = (await Messages(raised), await Messages(cleared));
        times = times with
        {
            Beyond = times.Beyond ?? (seen.FirstBeyond is { } first ? DateTimeOffset.FromUnixTimeMilliseconds(first) : null),
            Raised = raised?.RecordedAt,
            Told = told.Min(message => message.DeliveredAt),
            Cleared = times.FaultOver is null ? null : cleared?.RecordedAt,
            ToldOver = times.FaultOver is null ? null : toldOver.Min(message => message.DeliveredAt),
        };
        var trouble = await context.AlarmRules.Where(row => row.Id == rule).Select(row => row.Trouble).FirstOrDefaultAsync(stop);
        return record with
        {
            Times = times,
            Sight = new DrillSight(trouble, seen.Slots, seen.Values, seen.LongestBeyond, seen.Nearest, [.. told.Select(message => message.DeliveredAt is not null ? $"{message.Contact} was told" : message.LastError is { } error ? $"{message.Contact}: {error}" : message.NextTry > clock.GetUtcNow() ? $"{message.Contact} is not disturbed before {message.NextTry:yyyy-MM-dd HH:mm} UTC" : $"{message.Contact} is waiting")]),
        };
    }

    private async Task<bool> Switch(string fault, bool on, CancellationToken stop)
    {
        try
        {
            using var client = clients.CreateClient("practice");
            using var answer = await client.PutAsJsonAsync($"faults/{Uri.EscapeDataString(fault)}", new FaultSwitch(on), stop);
            return answer.IsSuccessStatusCode;
        }
        catch (Exception trouble) when (trouble is HttpRequestException || trouble is OperationCanceledException && !stop.IsCancellationRequested)
        {
            return false;
        }
    }

    // False where it was ended meanwhile, by a person at another server or with its rule.
    private async Task<bool> Keep(Guid rule, DrillRecord record, bool ended, CancellationToken stop)
    {
        var (now, text) = (clock.GetUtcNow(), JsonSerializer.Serialize(record, JudgeRules.Json));
        await using var context = await contexts.CreateDbContextAsync(stop);
        return await context.Drills.Where(drill => drill.RuleId == rule && drill.EndedAt == null)
            .ExecuteUpdateAsync(set => set.SetProperty(drill => drill.SeenAt, now).SetProperty(drill => drill.Document, text).SetProperty(drill => drill.EndedAt, ended ? now : null), stop) > 0;
    }

    private static DrillRecord Read(DrillRow row) => JsonSerializer.Deserialize<DrillRecord>(row.Document, JudgeRules.Json)!;

    private static DrillView View(DrillRow row)
    {
        var record = Read(row);
        return new DrillView(row.RuleId, row.Fault, record.Title, row.BegunBy, row.BegunAt, row.EndedAt, DrillChain.Hops(record.Times, AlarmRule.Read(record.Rule, out _)!, record.Sight, row.EndedAt is not null, record.Broken));
    }
}
