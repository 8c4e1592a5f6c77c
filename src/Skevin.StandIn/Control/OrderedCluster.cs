using Skevin.Core.Clusters;
using Skevin.StandIn.Api;
using Skevin.StandIn.Model;

namespace Skevin.StandIn.Control;

/// <summary>A stage of building, as the provider tells it.</summary>
/// <param name="State">waiting, going, done or failed.</param>
public sealed record BuildStage(string Name, string State, string Detail);

/// <summary>A cluster on order as kept on disk.</summary>
/// <param name="Stage">How many stages are done.</param>
/// <param name="Since">When the running one began.</param>
internal sealed record KeptOrder(ClusterOrder Order, IReadOnlyList<MachineSize> Sizes, string Token, int Port, int Number, int Stage, DateTimeOffset Since);

/// <summary>Builds one ordered cluster, stage by stage, as its machines come.</summary>
internal sealed class OrderedCluster
{
    private static readonly string[] Titles = ["Machines answer", "Software is there", "Nodes have joined", "Network", "Base services", "API is reachable"];
    private static readonly TimeSpan Software = TimeSpan.FromSeconds(3);
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

    private readonly SimNode[] _machines;
    private readonly Faults _switches;
    private readonly HostedCluster _hosted;
    private KeptOrder _kept;
    private string _detail = "";
    private bool _failed;
    private bool _listens;

    /// <summary>Begins, or goes on with what was kept.</summary>
    /// <param name="kept">The order.</param>
    /// <param name="state">The model's state, null at the beginning.</param>
    /// <param name="switches">Faults of providing.</param>
    /// <param name="host">Makes what answers for a model.</param>
    public OrderedCluster(KeptOrder kept, SimClusterState? state, Faults switches, Func<SimCluster, KeptOrder, HostedCluster> host, Func<string, Telemetry.PodLogs> logs, DateTimeOffset now)
    {
        (_kept, _switches) = (kept, switches);
        var sizes = kept.Sizes.ToDictionary(size => size.Name);
        _machines = [.. OrderReview.MachinesOf(kept.Order).Select(machine => new SimNode(machine.Name, machine.Role, sizes[machine.Size].Cores, sizes[machine.Size].MemoryGib))];
        Model = new SimCluster(kept.Order.Name, kept.Number, new Blueprint(_machines, kept.Order.Version, kept.Order.Families != OrderFamilies.V6, kept.Order.Families != OrderFamilies.V4, false), new Faults(), kept.Number, now, logs(kept.Order.Name));
        if (state is not null)
            Model.Load(state);
        if (kept.Stage > 2)
            Model.Join(_machines);
        _hosted = host(Model, kept);
    }

    /// <summary>What is kept of it.</summary>
    public KeptOrder Kept => _kept;

    /// <summary>Its model.</summary>
    public SimCluster Model { get; }

    /// <summary>What answers for it; it listens as soon as nodes join.</summary>
    public HostedCluster Hosted => _hosted;

    /// <summary>Whether its API answers.</summary>
    public bool Listens => _listens;

    /// <summary>Whether it is built.</summary>
    public bool Done => _kept.Stage == Titles.Length;

    /// <summary>All stages.</summary>
    public IReadOnlyList<BuildStage> Stages => [.. Titles.Select((title, i) => new BuildStage(title, i < _kept.Stage ? "done" : i > _kept.Stage ? "waiting" : _failed ? "failed" : "going", i <= _kept.Stage ? DetailOf(i) : ""))];

    /// <summary>Goes on as far as it can.</summary>
    public async Task Advance(DateTimeOffset now, CancellationToken stop)
    {
        if (_kept.Stage > 2 && !_listens)
            await Listen();
        if (Done)
            return;
        var since = now - _kept.Since;
        var done = _kept.Stage switch
        {
            0 => MachinesAnswer(since),
            1 => Say($"{Math.Min(_machines.Length, 1 + (int)since.TotalSeconds)} of {_machines.Length} machines", since >= Software),
            2 => await Join(since),
            3 => NetworkIsUp(),
            4 => ServicesRun(),
            _ => true,
        };
        if (done)
            (_kept, _failed) = (_kept with { Stage = _kept.Stage + 1, Since = now }, false);
    }

    private string DetailOf(int stage) => stage == _kept.Stage ? _detail : stage switch
    {
        0 => $"{_machines.Length} of {_machines.Length}",
        1 => $"version {_kept.Order.Version}",
        2 => $"{_machines.Length} of {_machines.Length}",
        3 => _kept.Order.Network is null ? "left out, as ordered: nodes are not ready until one is installed" : $"on {_machines.Length} nodes",
        4 => _kept.Order.Network is null ? "applied; they start when there is a network" : string.Join(", ", (_kept.Order.Services ?? []).Prepend("name service")),
        _ => _hosted.Address.ToString(),
    };

    private bool Say(string detail, bool done)
    {
        _detail = detail;
        return done;
    }

    private bool MachinesAnswer(TimeSpan since)
    {
        var silent = _switches.IsOn(Faults.MachineSilent);
        var answering = Math.Min(_machines.Length - (silent ? 1 : 0), 1 + (int)since.TotalSeconds);
        _failed = silent && since > Patience;
        return Say(_failed ? $"{answering} of {_machines.Length}; {_machines[^1].Name} does not answer for {since.TotalSeconds:0} s. Switch it on, or remove the order and order fewer." : $"{answering} of {_machines.Length}", answering == _machines.Length);
    }

    private async Task<bool> Join(TimeSpan since)
    {
        if (!_listens)
            await Listen();
        var joined = Math.Min(_machines.Length, 1 + (int)since.TotalSeconds);
        Model.Join(_machines.Take(joined));
        return Say($"{joined} of {_machines.Length}", joined == _machines.Length);
    }

    private async Task Listen()
    {
        _listens = true;
        await _hosted.Start();
    }

    private bool NetworkIsUp()
    {
        Put(BaseServices.NamespaceObject);
        if (_kept.Order.Network is null)
            return Say("left out, as ordered", true);
        Put(BaseServices.NetworkAgents);
        var ready = Model.Pods.Count(pod => BaseServices.IsNetwork(pod) && pod.IsReady);
        return Say($"on {ready} of {_machines.Length} nodes", ready == _machines.Length);
    }

    private bool ServicesRun()
    {
        foreach (var item in BaseServices.NameService.Concat((_kept.Order.Services ?? []).SelectMany(BaseServices.Of)))
            Put(item);
        if (_kept.Order.Network is null)
            return Say("applied", true);
        var waiting = Model.Pods.Where(pod => !pod.IsReady).Select(pod => pod.OwnerName).Distinct().ToArray();
        return Say(waiting.Length == 0 ? "run" : $"waiting for {string.Join(", ", waiting)}", waiting.Length == 0 && Model.Pods.Any(pod => pod.OwnerName == "name-service"));
    }

    private void Put((ObjectKey Key, System.Text.Json.Nodes.JsonObject Body) item)
    {
        if (Model.Store.Get(item.Key) is null)
            Model.Store.Put(item.Key, item.Body);
    }
}
