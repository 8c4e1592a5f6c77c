using System.Globalization;
using System.Text.Json.Nodes;
using Skevin.Core.Scaling;
using Skevin.StandIn.Api;

namespace Skevin.StandIn.Model;

/// <summary>The controller that sets how many pods deployments and stateful sets have, by autoscaling/v2 objects with a target for processor utilisation.</summary>
internal sealed class ReplicaAutoscaler(ObjectStore store)
{
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(15);
    private readonly Dictionary<string, List<(DateTimeOffset At, int Wanted)>> _wanted = [];
    private DateTimeOffset _next;

    /// <summary>Looks, where it is time, and sets.</summary>
    /// <param name="pods">All pods.</param>
    /// <param name="now">The time.</param>
    /// <param name="tell">Told of each change: namespace, workload, old and new number.</param>
    public void Run(IReadOnlyCollection<SimPod> pods, DateTimeOffset now, Action<string, string, int, int> tell)
    {
        if (now < _next)
            return;
        _next = now + Every;
        foreach (var rule in store.List("autoscaling", "horizontalpodautoscalers", "").Objects)
            One(rule, pods, now, tell);
    }

    private void One(StoredObject rule, IReadOnlyCollection<SimPod> pods, DateTimeOffset now, Action<string, string, int, int> tell)
    {
        var spec = rule.Body["spec"];
        var (kind, name) = (spec?["scaleTargetRef"]?["kind"]?.GetValue<string>() ?? "", spec?["scaleTargetRef"]?["name"]?.GetValue<string>() ?? "");
        var key = new ObjectKey("apps", kind.ToLowerInvariant() + "s", rule.Key.Namespace, name);
        var target = (spec?["metrics"] as JsonArray ?? []).Select(metric => metric?["resource"]).FirstOrDefault(resource => resource?["name"]?.GetValue<string>() == "cpu")?["target"]?["averageUtilization"]?.GetValue<int>() ?? 80;
        if (kind is not ("Deployment" or "StatefulSet") || store.Get(key) is not { } workload)
        {
            Show(rule, 0, 0, null, now, false, ("False", "FailedGetScale", $"{kind} \"{name}\" not found"));
            return;
        }
        var current = workload.Body["spec"]!["replicas"]?.GetValue<int>() ?? 1;
        var ready = pods.Where(pod => pod.OwnerKind == kind && pod.Namespace == rule.Key.Namespace && pod.OwnerName == name && pod.IsReady).ToArray();
        if (ready.Length == 0 || ready.Any(pod => pod.Request.Cores <= 0))
        {
            Show(rule, current, current, null, now, false, ("False", "FailedGetResourceMetric", ready.Length == 0 ? "no ready pod gives metrics" : "missing request for cpu"));
            return;
        }
        var use = ready.Average(pod => pod.Cores / pod.Request.Cores) * 100;
        var history = _wanted.TryGetValue($"{rule.Key.Namespace}/{rule.Key.Name}", out var known) ? known : _wanted[$"{rule.Key.Namespace}/{rule.Key.Name}"] = [];
        history.Add((now, ReplicaScaling.Wanted(current, use, target)));
        history.RemoveAll(one => now - one.At > ReplicaScaling.HoldsBeforeFewer);
        var set = ReplicaScaling.Set(current, history.Select(one => one.Wanted), spec?["minReplicas"]?.GetValue<int>() ?? 1, spec?["maxReplicas"]?.GetValue<int>() ?? current);
        if (set != current)
        {
            var body = (JsonObject)workload.Body.DeepClone();
            body["spec"]!["replicas"] = set;
            store.Put(key, body);
            tell(rule.Key.Namespace, name, current, set);
        }
        Show(rule, current, set, use, now, set != current, ("True", "ValidMetricFound", "the number is worked out from the cpu utilisation"));
    }

    private void Show(StoredObject rule, int current, int wanted, double? use, DateTimeOffset now, bool scaled, (string Status, string Reason, string Message) active)
    {
        var stamp = now.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture);
        var before = rule.Body["status"];
        var status = new JsonObject
        {
            ["currentReplicas"] = current, ["desiredReplicas"] = wanted,
            ["conditions"] = new JsonArray(new JsonObject { ["type"] = "ScalingActive", ["status"] = active.Status, ["reason"] = active.Reason, ["message"] = active.Message }),
        };
        if (scaled || before?["lastScaleTime"] is not null)
            status["lastScaleTime"] = scaled ? stamp : before!["lastScaleTime"]!.DeepClone();
        if (use is { } percent)
            status["currentMetrics"] = new JsonArray(new JsonObject { ["type"] = "Resource", ["resource"] = new JsonObject { ["name"] = "cpu", ["current"] = new JsonObject { ["averageUtilization"] = (int)Math.Round(percent) } } });
        if (JsonNode.DeepEquals(before, status))
            return;
        var body = (JsonObject)rule.Body.DeepClone();
        body["status"] = status;
        store.Put(rule.Key, body);
    }
}
