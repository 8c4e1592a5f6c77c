namespace Skevin.Command;

/// <summary>Puts the demo in place as a person would, through the public API. Safe to repeat.</summary>
public static class DemoSetUp
{
    private static readonly object[] Rules =
    [
        new
        {
            rule = "Memory of a ledger pod near its limit", when = "container.memory.working_set -> where workload = \"ledger\" -> max by namespace, pod", above = "440MiB", hold = "1m",
            clear = new { below = "400MiB" }, severity = "major", tell = new[] { "auction-on-duty" }, runbook = "https://runbooks.larkfield.example/ledger",
        },
        new
        {
            rule = "Bid gateway turns requests away", when = "http_server_requests -> where workload = \"bid-gateway\" and http_response_status_code = \"503\" -> rate -> sum by namespace, workload",
            above = "0.5", hold = "30s", clear = new { below = "0.2", hold = "1m" }, severity = "critical", tell = new[] { "auction-on-duty" }, runbook = "https://runbooks.larkfield.example/bid-gateway",
        },
        new
        {
            rule = "Settle replies slowly", when = "http_server_request_duration_seconds -> where workload = \"settle\" and quantile = \"0.95\" -> max by namespace, workload",
            above = "800ms", hold = "1m", severity = "minor", tell = new[] { "auction-on-duty" }, runbook = "https://runbooks.larkfield.example/settle",
        },
        new
        {
            rule = "Ledger replies slowly", when = "spans -> where service = \"ledger\" and kind = \"server\" -> p95 duration by namespace every 1m", above = "2s", hold = "2m",
            clear = new { below = "1500ms" }, severity = "major", tell = new[] { "auction-on-duty" }, runbook = "https://runbooks.larkfield.example/ledger",
        },
        new
        {
            rule = "Errors in the auction's logs", when = "logs -> where namespace = \"auction\" and level = \"error\" -> count by namespace every 1m", above = "60", hold = "2m", severity = "minor",
            tell = new[] { "auction-on-duty" }, runbook = "https://runbooks.larkfield.example/auction-errors",
        },
        new
        {
            rule = "Traffic inside is denied", when = "flows -> where outcome = \"dropped\" and source.namespace exists -> count by source, destination every 1m", above = "0", severity = "major",
            tell = new[] { "auction-on-duty" }, runbook = "https://runbooks.larkfield.example/denied-traffic",
        },
    ];

    // Who is who outside the demo's cluster, in the documentation ranges (RFC 5737, RFC 3849).
    private static readonly (string Network, string Name)[] Outside =
    [
        ("203.0.113.80/32", "bank"), ("203.0.113.60/30", "yard"), ("203.0.113.0/26", "buyers"), ("2001:db8:ba::/48", "bank"), ("2001:db8:c::/48", "yard"), ("2001:db8:b::/48", "buyers"),
    ];

    /// <summary>Connects, plans, rolls out, and keeps a contact and rules.</summary>
    public static async Task Run(Client client, string kubeconfig, string cluster, string hook)
    {
        var there = (await client.Get("api/clusters"))!.AsArray().Any(row => (string?)row!["name"] == cluster);
        if (!there)
            await client.Post("api/clusters", new { name = cluster, kubeconfig = await File.ReadAllTextAsync(kubeconfig) });
        var path = $"api/clusters/{cluster}/collection";
        var collection = (await client.Get(path))!;
        if ((int)collection["revision"]! == 0)
        {
            var plan = collection["plan"]!.DeepClone();
            plan["flows"] = System.Text.Json.JsonSerializer.SerializeToNode(new { outside = Outside.Select(pair => new { network = pair.Network, name = pair.Name }) });
            await client.Post(path + "/roll-out", new { plan });
        }
        await client.Post("api/contacts", new { name = "auction-on-duty", url = hook });
        var known = (await client.Get("api/alert-rules"))!.AsArray().Select(rule => (string?)rule!["document"]!["rule"]).ToHashSet();
        if (known.Count > 0)
            return;
        foreach (var rule in Rules)
        {
            var body = System.Text.Json.JsonSerializer.SerializeToNode(rule)!.AsObject();
            body["cluster"] = cluster;
            await client.Post("api/alert-rules", body);
        }
    }
}
