using System.Net;
using System.Text.Json.Nodes;
using Skevin.StandIn;

namespace Skevin.Server.Tests;

/// <summary>A server and the stand-in clusters, without history.</summary>
public sealed class ServerWithStandIn : RunningServer
{
    private StandInHost? _standIn;

    public string StandInFolder { get; } = Directory.CreateTempSubdirectory("skevin-stand-in").FullName;

    public string Kubeconfig(string cluster) => File.ReadAllText(_standIn!.KubeconfigPath(cluster));

    public override async ValueTask InitializeAsync()
    {
        await base.InitializeAsync();
        _standIn = await StandInHost.Start(new StandInOptions(StandInFolder, PracticePort, TimeSpan.Zero));
    }

    public override async ValueTask DisposeAsync()
    {
        if (_standIn is not null)
            await _standIn.DisposeAsync();
        await base.DisposeAsync();
    }
}

/// <summary>The whole path by the API: cluster, collection, arrivals, enquiry, alarm, message; and what breaks it.</summary>
public sealed class PathTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>
{
    private const string North = "larkfield-north";

    private Task<JsonNode> Sources() => server.Keeper.Json("api/arrivals?cluster=" + North);

    private Task<JsonNode> SourceUntil(string source, Func<JsonNode, bool> holds, string what) =>
        ApiCalls.Until(async () => (await Sources())["sources"]!.AsArray().FirstOrDefault(row => (string)row!["source"]! == source) ?? new JsonObject(), row => row["state"] is not null && holds(row), 90, what);

    [Fact]
    public async Task From_a_cluster_to_an_alarm_and_back()
    {
        var keeper = server.Keeper;

        // Connect: wrong credentials are explained, right ones are kept.
        using (var refused = await keeper.PostAsync("api/clusters", System.Net.Http.Json.JsonContent.Create(new { kubeconfig = server.Kubeconfig(North).Replace("token: ", "token: wrong") })))
        {
            refused.StatusCode.ShouldBe(HttpStatusCode.BadGateway);
            (await refused.Content.ReadAsStringAsync()).ShouldContain("401");
        }
        (await keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig(North) }))!["name"]!.GetValue<string>().ShouldBe(North);
        var inventory = await ApiCalls.Until(() => keeper.Json("api/clusters/" + North), view => (bool)view["complete"]! && view["nodes"]!.AsArray().Count == 5, 30, "the inventory");
        inventory["workloads"]!.AsArray().Select(workload => (string)workload!["name"]!).ShouldContain("bid-gateway");
        ((int)(await keeper.Json("api/clusters"))[0]!["nodes"]!).ShouldBe(5);

        // Collect: five-second metrics, each agent followed to ready.
        var plan = new { metrics = new { resourceUsage = true, clusterState = true, endpoints = true, everySeconds = 5, endpointPort = "metrics", endpointPath = "/metrics" } };
        var manifests = (await keeper.Send($"api/clusters/{North}/collection/manifests", new { plan }))!;
        ((string)manifests["yaml"]!).ShouldContain("kind: DaemonSet");
        await keeper.Send($"api/clusters/{North}/collection/roll-out", new { plan });
        var collection = await ApiCalls.Until(() => keeper.Json($"api/clusters/{North}/collection"), view => view["agents"]!.AsArray() is { Count: 6 } agents && agents.All(agent => (string)agent!["stage"]! == "ready"), 60, "all agents ready");
        ((int)collection["revision"]!).ShouldBe(1);

        // Arrivals: everything that should arrive does.
        await ApiCalls.Until(Sources, view => view["sources"]!.AsArray() is { Count: > 20 } sources && sources.All(source => (string)source!["state"]! == "onTime"), 90, "all sources on time");

        // Ask.
        var now = DateTimeOffset.UtcNow;
        var answer = await ApiCalls.Until(() => keeper.Ask("container.cpu.time -> where namespace = \"auction\" -> rate -> sum by workload", now.AddMinutes(-3), DateTimeOffset.UtcNow, North),
            view => view["series"]!.AsArray().Count == 5 && view["series"]![0]!["points"]!.AsArray().Any(point => point![1] is not null), 60, "an answer");
        answer["unit"]!.GetValue<string>().ShouldBe("{core}");

        // Where a series comes from: which agent, from what, under which revision, by which right.
        var origins = (await keeper.Send("api/ask/origins", new { text = "container.cpu.time -> where namespace = \"auction\" -> rate -> sum by workload", cluster = North, from = now.AddMinutes(-3), to = DateTimeOffset.UtcNow, labels = new { workload = "ledger" } }))!;
        ((int)origins["revision"]!).ShouldBe(1);
        var node = inventory["pods"]!.AsArray().Where(pod => (string)pod!["workload"]! == "ledger").Select(pod => (string)pod!["node"]!).Distinct().Order().ToArray();
        origins["origins"]!.AsArray().Select(origin => (string)origin!["source"]!).ShouldBe(node.Select(name => "node/" + name));
        ((string)origins["origins"]![0]!["agent"]!).ShouldStartWith("skevin-agents/skevin-agent-");
        ((string)origins["origins"]![0]!["sentBy"]!).ShouldBe("agent on " + node[0]);
        origins["origins"]![0]!["rights"]!.AsArray().Select(right => (string)right!).ShouldContain(right => right.StartsWith("get nodes/proxy"));
        var served = (await keeper.Send("api/ask/origins", new { text = "http_server_request_duration_seconds -> where workload = \"ledger\"", cluster = North, from = now.AddMinutes(-3), to = DateTimeOffset.UtcNow, labels = new { } }))!;
        served["origins"]!.AsArray().ShouldAllBe(origin => ((string)origin!["source"]!).StartsWith("auction/ledger-"));

        // Alarm: a rule, a fault, the message at the sink, and cleared when the fault is gone.
        await keeper.Send("api/contacts", new { name = "on-duty", url = $"http://127.0.0.1:{server.PracticePort + 3}/hook" });
        var rule = (await keeper.Send("api/alert-rules", new
        {
            rule = "Settle waits for the bank", when = "http_server_request_duration_seconds -> where workload = \"settle\" and quantile = \"0.95\" -> max by namespace, workload",
            above = "2s", every = "5s", wait = "5s", severity = "critical", tell = new[] { "on-duty" }, cluster = North,
        }))!;
        rule["inForce"]!.GetValue<bool>().ShouldBeTrue();
        await keeper.Send("api/practice/faults/slow-bank", new { on = true }, HttpMethod.Put);
        var alarms = await ApiCalls.Until(() => keeper.Json("api/alarms"), view => view["alarms"]!.AsArray().Any(alarm => (string)alarm!["state"]! == "raised"), 60, "the alarm");
        var raised = alarms["alarms"]![0]!;
        raised["labels"]!["workload"]!.GetValue<string>().ShouldBe("settle");
        using var sink = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{server.PracticePort + 3}/") };
        var message = (await ApiCalls.Until(() => sink.Json("messages"), view => view.AsArray().Count > 0, 30, "the message"))[0]!["body"]!;
        message["transition"]!.GetValue<string>().ShouldBe("raised");
        message["rule"]!.GetValue<string>().ShouldBe("Settle waits for the bank");
        message["alarm"]!.GetValue<string>().ShouldBe((string)raised["id"]!);
        await keeper.Send($"api/alarms/{raised["id"]}/acknowledge", new { });
        (await keeper.Json("api/alarms"))["alarms"]![0]!["acknowledgedBy"]!.GetValue<string>().ShouldBe("R. Amsel");
        await keeper.Send("api/practice/faults/slow-bank", new { on = false }, HttpMethod.Put);
        await ApiCalls.Until(() => sink.Json("messages"), view => view.AsArray().Any(one => (string)one!["body"]!["transition"]! == "cleared"), 60, "the clearing message");
        var ids = (await sink.Json("messages")).AsArray().Select(one => (string)one!["body"]!["id"]!).ToArray();
        ids.Distinct().Count().ShouldBe(ids.Length);

        // Replay of the live window judges as live did.
        var events = (await keeper.Json("api/alarms"))["events"]!.AsArray();
        var replay = (await keeper.Send("api/alert-rules/replay", new { rule = rule["document"], from = rule["createdAt"], to = DateTimeOffset.UtcNow.AddSeconds(-6), cluster = North }))!;
        replay["raised"]!.AsArray().ShouldHaveSingleItem()!["from"]!.GetValue<DateTimeOffset>().ShouldBe(events.Single(one => (string)one!["transition"]! == "raised")!["at"]!.GetValue<DateTimeOffset>());

        // What arrived can be asked for as series.
        // A minute counts when it is over.
        var arrived = (await ApiCalls.Until(async () => (await keeper.Ask("arrivals -> where source = \"node/north-1\" and signal = \"metrics\"", DateTimeOffset.UtcNow.AddMinutes(-6), DateTimeOffset.UtcNow, North))["series"]!.AsArray().ShouldHaveSingleItem()!,
            series => series["points"]!.AsArray().Any(point => point![1] is not null), 90, "a whole minute of arrivals"));
        arrived["labels"]!["state"]!.GetValue<string>().ShouldBe("on time");
        arrived["points"]!.AsArray().Select(point => (double?)point![1]).ShouldContain(1);

        // A missing right is a real 403, named, and cured by applying the plan again.
        await keeper.Send("api/practice/faults/role-missing", new { on = true }, HttpMethod.Put);
        var refusedSource = await SourceUntil("node/north-1", row => (string)row["state"]! == "refused", "the refused source");
        ((string)refusedSource["cause"]!).ShouldBe("403 the role lacks a right");
        ((string)refusedSource["explanation"]!).ShouldContain("nodes/proxy");
        (await SourceUntil("cluster state", row => (string)row["state"]! == "onTime", "the sources that still may be read"))["cause"].ShouldBeNull();
        await keeper.Send("api/arrivals/cure", new { cluster = North, act = "applyAgain" });
        await SourceUntil("node/north-1", row => (string)row["state"]! is "onTime" or "partial", "the cured source");

        // A replaced token is a real 401, named, and cured by a new one; what was kept meanwhile arrives.
        var token = (await keeper.Json("api/tokens")).AsArray().Single(row => (bool)row!["forAgents"]! && row["revokedAt"] is null)!;
        var revoked = DateTimeOffset.UtcNow;
        (await keeper.DeleteAsync("api/tokens/" + token["id"])).StatusCode.ShouldBe(HttpStatusCode.NoContent);
        await SourceUntil("node/north-2", row => ((string)row["state"]!, (string?)row["cause"]) == ("refused", "401 ingest token replaced"), "the refused pushes");
        await keeper.Send("api/arrivals/cure", new { cluster = North, act = "handOutToken" });
        await SourceUntil("node/north-2", row => (string)row["state"]! is "onTime" or "partial", "pushes with the new token");
        var through = await ApiCalls.Until(() => keeper.Ask("k8s.node.memory.working_set -> where node = \"north-2\" -> count every 5s", revoked, DateTimeOffset.UtcNow.AddSeconds(-15) is var until && until > revoked ? until : revoked.AddSeconds(5), North),
            view => view["series"]!.AsArray() is { Count: 1 } series && series[0]!["points"]!.AsArray().Count > 3 && series[0]!["points"]!.AsArray().All(point => point![1] is not null), 60, "no gap across the refused time");
        through["series"]![0]!["labels"]!.AsObject().Count.ShouldBe(0);

        // An altered token is found by asking the agents.
        await keeper.Send("api/practice/faults/token-altered", new { on = true }, HttpMethod.Put);
        await SourceUntil("node/north-3", row => ((string)row["state"]!, (string?)row["cause"]) == ("refused", "401 unknown ingest token"), "the altered token");
    }
}
