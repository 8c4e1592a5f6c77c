namespace Skevin.StandIn.Model;

/// <summary>A call a request makes.</summary>
/// <param name="To">Workload by <c>namespace/name</c>, or <c>bank</c>, which is outside.</param>
/// <param name="Share">How many of the requests make it, 0 to 1.</param>
public sealed record ScenarioCall(string To, double Share);

/// <summary>A workload of the scenario and what it does under load. All invented.</summary>
/// <param name="Namespace">Namespace.</param>
/// <param name="Kind">Deployment or StatefulSet.</param>
/// <param name="Name">Name.</param>
/// <param name="Replicas">Wanted pods.</param>
/// <param name="Request">Cores and MiB requested by a container.</param>
/// <param name="Limit">Cores and MiB it may use at most.</param>
/// <param name="BaseMemory">MiB in use without load.</param>
/// <param name="Enters">Requests that begin here for each that enters at the gate; see <paramref name="From"/>.</param>
/// <param name="From">Who begins them: an outside network's name, a workload, or nobody: the workload itself.</param>
/// <param name="Cost">Core seconds a request takes.</param>
/// <param name="Calls">What a request calls, one after the other.</param>
/// <param name="Does">Method and route of its requests; <c>{lot}</c> is a lot's number.</param>
/// <param name="Port">Port it serves on.</param>
/// <param name="Metrics">Port of its metrics endpoint; 0 for none.</param>
/// <param name="Steady">Whether what begins here is steady over the day.</param>
/// <param name="LeakPerHour">MiB it loses in an hour.</param>
/// <param name="OnlyV6">Whether its pods have an IPv6 address alone.</param>
/// <param name="JsonLogs">Whether it writes its log as JSON.</param>
/// <param name="Traced">Whether it carries an OpenTelemetry SDK.</param>
public sealed record ScenarioWorkload(
    string Namespace, string Kind, string Name, int Replicas, (double Cores, double Mib) Request, (double Cores, double Mib) Limit,
    double BaseMemory, double Enters, string From, double Cost, ScenarioCall[] Calls, string Does, int Port, int Metrics = 0, bool Steady = false,
    double LeakPerHour = 0, bool OnlyV6 = false, bool JsonLogs = false, bool Traced = true)
{
    /// <summary>namespace/name.</summary>
    public string Id => $"{Namespace}/{Name}";

    /// <summary>HTTP method.</summary>
    public string Method => Does.Split(' ')[0];

    /// <summary>Route.</summary>
    public string Route => Does.Split(' ')[1];
}

/// <summary>The demo's clusters: Larkfield Growers' Auction.</summary>
public static class Scenario
{
    /// <summary>Version text both clusters report.</summary>
    public const string Version = "v1.33.4-larkfield";

    /// <summary>The bank outside, by name and addresses of the documentation ranges (RFC 5737, RFC 3849).</summary>
    public const string Bank = "bank";

    /// <summary>Workload that resolves names; every call asks it now and then, over UDP.</summary>
    public const string NameService = "platform/name-service";

    /// <summary>Networks outside, from the documentation ranges (RFC 5737, RFC 3849): name, IPv4, IPv6, hosts in it.</summary>
    public static readonly (string Name, string V4, string V6, int Hosts)[] Outside =
    [
        ("buyers", "203.0.113.", "2001:db8:b::", 40), ("yard", "203.0.113.6", "2001:db8:c::", 4), (Bank, "203.0.113.8", "2001:db8:ba::", 1), ("strangers", "203.0.113.20", "2001:db8:e::", 9),
    ];

    /// <summary>What runs in both clusters.</summary>
    public static readonly ScenarioWorkload[] Workloads =
    [
        new("edge", "Deployment", "gatehouse", 2, (0.25, 128), (1, 256), 70, 1.0, "buyers", 0.011, [new("auction/bid-gateway", 0.9), new("auction/price-feed", 0.3)], "POST /bids/{lot}", 8443, 9464),
        new("auction", "Deployment", "bid-gateway", 4, (0.5, 256), (1, 512), 140, 0, "", 0.0325,
            [new("auction/lot-cache", 1), new("auction/clock", 0.33), new("auction/ledger", 0.556)], "POST /bids/{lot}", 8080, 9464, JsonLogs: true),
        new("auction", "Deployment", "clock", 1, (0.2, 64), (0.5, 128), 40, 0, "", 0.006, [], "GET /price/{lot}", 8080),
        new("auction", "Deployment", "ledger", 3, (0.5, 320), (1, 512), 190, 0, "", 0.041,
            [new("auction/lot-cache", 0.6), new(Bank, 0.2), new("platform/queue", 0.5)], "POST /lots/{lot}/writes", 8080, 9464, LeakPerHour: 34, JsonLogs: true),
        new("auction", "StatefulSet", "lot-cache", 1, (0.3, 384), (1, 512), 300, 0, "", 0.003, [], "GET /lots/{lot}", 8080),
        new("auction", "Deployment", "price-feed", 2, (0.2, 96), (0.5, 192), 60, 0.3, "buyers", 0.0055, [new("auction/clock", 0.5)], "GET /prices/{lot}", 8080, 9464),
        new("intake", "Deployment", "weighbridge", 2, (0.1, 96), (0.5, 192), 55, 0.08, "yard", 0.02, [new("intake/lot-registry", 1)], "POST /weighings/{lot}", 8080),
        new("intake", "Deployment", "lot-registry", 2, (0.2, 192), (0.5, 384), 120, 0, "", 0.015, [new("platform/queue", 0.5)], "PUT /lots/{lot}", 8080, 9464),
        new("grading", "Deployment", "camera-sorter", 3, (0.8, 384), (1.5, 768), 330, 0.06, "yard", 0.5, [new("grading/sugar-model", 1), new("intake/lot-registry", 0.5)], "POST /images/{lot}", 8080),
        new("grading", "Deployment", "sugar-model", 2, (0.6, 512), (1, 768), 460, 0, "", 0.4, [], "POST /estimates/{lot}", 8080),
        new("coldstore", "Deployment", "room-sensors", 3, (0.1, 64), (0.3, 128), 38, 0.06, "", 0.01, [new("coldstore/door-watch", 0.8), new("platform/queue", 1)], "READ rooms", 8080, Steady: true, OnlyV6: true),
        new("coldstore", "Deployment", "door-watch", 1, (0.1, 64), (0.3, 128), 36, 0, "", 0.01, [new("platform/queue", 0.5)], "GET /doors/{lot}", 8080, Steady: true),
        new("payout", "Deployment", "settle", 2, (0.2, 192), (0.5, 384), 130, 0.06, "platform/queue", 0.024, [new(Bank, 0.7), new("payout/statements", 0.5)], "POST /settlements/{lot}", 8080, 9464, JsonLogs: true),
        new("payout", "Deployment", "statements", 1, (0.1, 128), (0.5, 256), 90, 0, "", 0.012, [], "POST /statements/{lot}", 8080),
        new("platform", "Deployment", "name-service", 2, (0.1, 64), (0.5, 128), 30, 0, "", 0.0005, [], "QUERY name", 53, Traced: false),
        new("platform", "StatefulSet", "queue", 3, (0.3, 384), (1, 768), 250, 0, "", 0.007, [], "POST /messages/{lot}", 5671, 9464),
    ];

    /// <summary>Finds a workload by <c>namespace/name</c>.</summary>
    public static readonly IReadOnlyDictionary<string, ScenarioWorkload> ById = Workloads.ToDictionary(workload => workload.Id);

    /// <summary>The workload a pod belongs to, or null for pods that are not of the scenario.</summary>
    public static ScenarioWorkload? Of(SimPod pod) => ById.GetValueOrDefault($"{pod.Namespace}/{pod.OwnerName}");

    /// <summary>Cores and GiB of a node.</summary>
    public static readonly (double Cores, double Gib) NodeSize = (4, 16);
}
