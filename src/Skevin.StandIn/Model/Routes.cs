using System.Globalization;
using System.Text.Json.Nodes;
using Skevin.StandIn.Api;

namespace Skevin.StandIn.Model;

/// <summary>What the sidecars of callers do on the way to a service.</summary>
/// <param name="Timeout">Seconds a caller waits for an answer; 0 for as long as it takes.</param>
/// <param name="Retries">How often a failed call is made again.</param>
/// <param name="Connections">Calls a pod behind the service is given at once; 0 for any number.</param>
/// <param name="EjectAfter">Failures in a row after which a pod is left out; 0 for never.</param>
/// <param name="EjectFor">Seconds it is left out.</param>
public sealed record RouteRule(double Timeout = 0, int Retries = 0, int Connections = 0, int EjectAfter = 0, double EjectFor = 30)
{
    /// <summary>Label of a namespace whose new pods get a sidecar when it says <c>on</c>.</summary>
    public const string SidecarLabel = "practice.larkfield.example/sidecar";

    private const string Prefix = "practice.larkfield.example/";

    /// <summary>The rules of all services that have one, by <c>namespace/workload</c>; they stand in annotations of the service: timeout, retries, connections, eject-after, eject-for.</summary>
    public static IReadOnlyDictionary<string, RouteRule> Of(ObjectStore store)
    {
        var rules = new Dictionary<string, RouteRule>();
        foreach (var service in store.List("", "services", "").Objects)
            if (service.Body["metadata"]?["annotations"] is JsonObject annotations && annotations.Any(pair => pair.Key.StartsWith(Prefix, StringComparison.Ordinal)))
            {
                double Number(string name, double otherwise) => double.TryParse(annotations[Prefix + name]?.ToString().TrimEnd('s'), NumberStyles.Float, CultureInfo.InvariantCulture, out var number) && number >= 0 ? number : otherwise;
                rules[$"{service.Key.Namespace}/{service.Key.Name}"] = new RouteRule(Number("timeout", 0), (int)Number("retries", 0), (int)Number("connections", 0), (int)Number("eject-after", 0), Number("eject-for", 30));
            }
        return rules;
    }
}

/// <summary>What the sidecars have seen of the pods they call.</summary>
internal sealed class RouteState
{
    private const long Nanos = 1_000_000_000;

    private sealed class Backend
    {
        public int Failures { get; set; }

        public long OutUntil { get; set; }

        public List<(long Begin, long End)> Calls { get; } = [];
    }

    private readonly Dictionary<string, Backend> _pods = [];

    /// <summary>Pods that are left out now: uid and until when, in nanoseconds.</summary>
    public IEnumerable<(string Uid, long Until)> Out => _pods.Where(pair => pair.Value.OutUntil > 0).Select(pair => (pair.Key, pair.Value.OutUntil));

    /// <summary>Pods that may be called. Where all are left out, all may: better a failing pod than none.</summary>
    public SimPod[] Open(SimPod[] pods, RouteRule rule, long at)
    {
        if (rule.EjectAfter == 0)
            return pods;
        var open = pods.Where(pod => Of(pod).OutUntil <= at).ToArray();
        return open.Length > 0 ? open : pods;
    }

    /// <summary>Whether a pod has as many calls as it may.</summary>
    public bool IsFull(SimPod pod, RouteRule rule, long at, int weight) =>
        rule.Connections > 0 && Of(pod).Calls.Count(call => call.Begin <= at && call.End > at) * weight >= rule.Connections;

    /// <summary>Notes a call that was made. A pod that answers is trusted again.</summary>
    public void Called(SimPod pod, RouteRule rule, long begin, long end, bool failed)
    {
        var backend = Of(pod);
        if (rule.Connections > 0)
            backend.Calls.Add((begin, end));
        backend.Failures = failed ? backend.Failures + 1 : 0;
        if (rule.EjectAfter == 0 || backend.Failures < rule.EjectAfter)
            return;
        (backend.Failures, backend.OutUntil) = (0, end + (long)(rule.EjectFor * Nanos));
    }

    /// <summary>Forgets calls that ended before a moment.</summary>
    public void Forget(long before)
    {
        foreach (var backend in _pods.Values)
            backend.Calls.RemoveAll(call => call.End < before);
    }

    private Backend Of(SimPod pod) => _pods.TryGetValue(pod.Uid, out var known) ? known : _pods[pod.Uid] = new Backend();
}
