namespace Skevin.StandIn.Model;

/// <summary>A workload of the scenario and what it does under load. All invented.</summary>
/// <param name="Namespace">Namespace.</param>
/// <param name="Kind">Deployment or StatefulSet.</param>
/// <param name="Name">Name.</param>
/// <param name="Replicas">Wanted pods.</param>
/// <param name="Request">Cores and MiB requested by a container.</param>
/// <param name="Limit">Cores and MiB it may use at most.</param>
/// <param name="BaseMemory">MiB in use without load.</param>
/// <param name="Share">Requests to it for each request that enters; steady ones get theirs without the daily curve.</param>
/// <param name="Cost">Core seconds a request takes.</param>
/// <param name="Calls">Services a request waits for, by <c>namespace/name</c>; <c>bank</c> is outside.</param>
/// <param name="Port">Port of its metrics endpoint; 0 for none.</param>
/// <param name="Steady">Whether its load is steady over the day.</param>
/// <param name="LeakPerHour">MiB it loses in an hour.</param>
/// <param name="OnlyV6">Whether its pods have an IPv6 address alone.</param>
public sealed record ScenarioWorkload(
    string Namespace, string Kind, string Name, int Replicas, (double Cores, double Mib) Request, (double Cores, double Mib) Limit,
    double BaseMemory, double Share, double Cost, string[] Calls, int Port = 0, bool Steady = false, double LeakPerHour = 0, bool OnlyV6 = false)
{
    /// <summary>namespace/name.</summary>
    public string Id => $"{Namespace}/{Name}";
}

/// <summary>The demo's clusters: Larkfield Growers' Auction.</summary>
public static class Scenario
{
    /// <summary>Version text both clusters report.</summary>
    public const string Version = "v1.33.4-larkfield";

    /// <summary>What runs in both clusters.</summary>
    public static readonly ScenarioWorkload[] Workloads =
    [
        new("edge", "Deployment", "gatehouse", 2, (0.25, 128), (1, 256), 70, 1.0, 0.0022, ["auction/bid-gateway"], 9464),
        new("auction", "Deployment", "bid-gateway", 4, (0.5, 256), (1, 512), 140, 0.9, 0.0065, ["auction/ledger", "auction/lot-cache"], 9464),
        new("auction", "Deployment", "clock", 1, (0.2, 64), (0.5, 128), 40, 0.3, 0.0012, []),
        new("auction", "Deployment", "ledger", 3, (0.5, 320), (1, 512), 190, 0.5, 0.0082, ["auction/lot-cache", "bank"], 9464, LeakPerHour: 34),
        new("auction", "StatefulSet", "lot-cache", 1, (0.3, 384), (1, 512), 300, 1.2, 0.0006, []),
        new("auction", "Deployment", "price-feed", 2, (0.2, 96), (0.5, 192), 60, 0.6, 0.0011, ["auction/clock"], 9464),
        new("intake", "Deployment", "weighbridge", 2, (0.1, 96), (0.5, 192), 55, 0.08, 0.004, ["intake/lot-registry"]),
        new("intake", "Deployment", "lot-registry", 2, (0.2, 192), (0.5, 384), 120, 0.25, 0.003, [], 9464),
        new("grading", "Deployment", "camera-sorter", 3, (0.8, 384), (1.5, 768), 330, 0.06, 0.12, ["grading/sugar-model"]),
        new("grading", "Deployment", "sugar-model", 2, (0.6, 512), (1, 768), 460, 0.06, 0.09, []),
        new("coldstore", "Deployment", "room-sensors", 3, (0.1, 64), (0.3, 128), 38, 0.05, 0.002, ["coldstore/door-watch"], Steady: true, OnlyV6: true),
        new("coldstore", "Deployment", "door-watch", 1, (0.1, 64), (0.3, 128), 36, 0.04, 0.002, [], Steady: true),
        new("payout", "Deployment", "settle", 2, (0.2, 192), (0.5, 384), 130, 0.04, 0.012, ["bank", "payout/statements"], 9464),
        new("payout", "Deployment", "statements", 1, (0.1, 128), (0.5, 256), 90, 0.02, 0.02, []),
        new("platform", "Deployment", "name-service", 2, (0.1, 64), (0.5, 128), 30, 3.0, 0.0001, []),
        new("platform", "StatefulSet", "queue", 3, (0.3, 384), (1, 768), 250, 0.8, 0.0014, [], 9464),
    ];

    /// <summary>Cores and GiB of a node.</summary>
    public static readonly (double Cores, double Gib) NodeSize = (4, 16);
}
