using System.Text.Json;
using System.Text.Json.Nodes;
using Skevin.Core.Collection;
using Skevin.StandIn.Api;
using Skevin.StandIn.Model;
using Skevin.StandIn.Telemetry;

namespace Skevin.StandIn.Control;

/// <summary>How far the coarser days are lived through.</summary>
public sealed record CoarseProgress(DateTimeOffset From, DateTimeOffset To, DateTimeOffset Now);

/// <summary>
/// The days before the fine hours, lived through in the background with the same pods: metrics every five minutes, one request in 64 simulated and
/// standing for all (spans with their sampling threshold, flows with their count; of log lines only those of these requests). Faults come and
/// go in it, so that there is something to look back at. It goes on where it was after a stop.
/// </summary>
internal sealed class CoarsePast : IAsyncDisposable
{
    private const int Weight = 64;
    private static readonly TimeSpan Pass = TimeSpan.FromMinutes(5);
    private static readonly TimeSpan Step = TimeSpan.FromMinutes(1);
    private static readonly TimeSpan KeptEvery = TimeSpan.FromHours(1);

    // Days before the end, hour of the day, minutes.
    private static readonly (int Day, double Hour, int Minutes, string Fault)[] Incidents =
        [(12, 9.5, 50, Faults.SlowBank), (10, 14.2, 40, Faults.Burst), (8, 20, 120, Faults.Leak), (6, 6.6, 60, Faults.PolicyDenies), (4, 10.1, 45, Faults.SlowBank), (2, 16.3, 30, Faults.Burst)];

    private sealed record Kept(DateTimeOffset From, DateTimeOffset To, SimClusterState? State);

    private readonly string _file;
    private readonly SimCluster _present;
    private readonly Kept _kept;
    private readonly SimClock _clock;
    private readonly Faults _faults = new();
    private readonly HostedCluster _past;
    private readonly WebApplication _pods;

    private CoarsePast(string file, string folder, SimCluster present, int seed, Kept kept)
    {
        (_file, _present, _kept) = (file, present, kept);
        _clock = new SimClock(kept.State?.Now ?? kept.From);
        // The same seed gives the same pods.
        var model = new SimCluster(present.Name, 1, present.Nodes.Count, _faults, seed, kept.From, new PodLogs(folder), Weight, Step);
        if (kept.State is { } state)
            model.Load(state);
        var network = new PodNetwork([model]) { Port = Loopback.FreePort() };
        _pods = Loopback.Serve(network.Port, app => app.Run(network.Handle));
        _past = new HostedCluster(model, _clock, network, folder, "nobody", Loopback.FreePort(), () => { });
    }

    /// <summary>How far it is.</summary>
    public CoarseProgress Progress => new(_kept.From, _kept.To, _clock.GetUtcNow());

    /// <summary>Prepares it; null where it was lived through before.</summary>
    /// <param name="folder">The stand-in's state.</param>
    /// <param name="present">The cluster whose past it is.</param>
    /// <param name="seed">Of that cluster.</param>
    /// <param name="begun">Where the fine hours begin; null where they began at an earlier start.</param>
    /// <param name="days">How far back it goes.</param>
    public static CoarsePast? Of(string folder, SimCluster present, int seed, DateTimeOffset? begun, TimeSpan days)
    {
        var file = Path.Combine(folder, present.Name + ".past.json");
        var kept = File.Exists(file) ? JsonSerializer.Deserialize<Kept>(File.ReadAllText(file))! : begun is { } to && days > TimeSpan.Zero ? new Kept(to - days, to, null) : null;
        if (kept is null || kept.State?.Now >= kept.To)
            return null;
        Write(file, kept);
        return new CoarsePast(file, Path.Combine(folder, present.Name + "-past"), present, seed, kept);
    }

    /// <summary>Lives through it.</summary>
    public async Task Run(CancellationToken stop)
    {
        await _pods.StartAsync(stop);
        await _past.Start();
        var saved = DateTimeOffset.MinValue;
        try
        {
            while (_clock.GetUtcNow() is var now && now < _kept.To)
            {
                // What was told is sent at the end of a pass, so only there it may stop.
                if (now.UtcTicks % Pass.Ticks == 0)
                    stop.ThrowIfCancellationRequested();
                if (now - saved >= KeptEvery)
                {
                    Save();
                    TakeCollection();
                    saved = now;
                }
                foreach (var (day, hour, minutes, fault) in Incidents)
                    _faults.Set(fault, Incidents.Any(one => one.Fault == fault && Begin(one.Day, one.Hour) is var begin && now >= begin && now < begin.AddMinutes(one.Minutes)));
                var took = System.Diagnostics.Stopwatch.StartNew();
                var ready = await _past.LiveThrough(_past.Agents.AllReady ? new DateTimeOffset(now.UtcTicks / Step.Ticks * Step.Ticks, TimeSpan.Zero) + Step : now.AddSeconds(1), Pass, Pass, CancellationToken.None);
                // What is lived through now has the way before what was.
                await Task.Delay(ready ? took.Elapsed / 3 : TimeSpan.FromMilliseconds(100), CancellationToken.None);
                if (!ready)
                    stop.ThrowIfCancellationRequested();
            }
        }
        finally
        {
            await _past.Agents.EndAll();
            Save();
        }
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await _past.DisposeAsync();
        await _pods.DisposeAsync();
    }

    private DateTimeOffset Begin(int day, double hour) => new DateTimeOffset(_kept.To.UtcDateTime.Date, TimeSpan.Zero).AddDays(-day).AddHours(hour);

    // The plan of the present, with its token, applies here too; only the interval is longer.
    private void TakeCollection()
    {
        foreach (var item in _present.Store.All().Where(item => item.Key.Namespace == Manifests.Namespace || item.Key.Name.StartsWith(Manifests.Agent, StringComparison.Ordinal) || item.Key.Name == Manifests.Namespace)
            .Where(item => item.Key.Plural is not ("pods" or "events" or "nodes")))
        {
            var body = (JsonObject)JsonNode.Parse(item.Json)!;
            if (item.Key.Plural == "configmaps" && body["data"]?["agent.json"]?.GetValue<string>() is { } text)
            {
                var configuration = JsonNode.Parse(text)!;
                if (configuration["plan"]?["metrics"] is JsonObject metrics)
                    (metrics["everySeconds"], metrics["closely"]) = ((int)Pass.TotalSeconds, null);
                body["data"]!["agent.json"] = configuration.ToJsonString();
            }
            _past.Model.Store.Put(item.Key, body);
        }
    }

    private void Save() => Write(_file, _kept with { State = _past.Model.Save() });

    private static void Write(string file, Kept kept)
    {
        File.WriteAllText(file + ".new", JsonSerializer.Serialize(kept));
        File.Move(file + ".new", file, overwrite: true);
    }
}
