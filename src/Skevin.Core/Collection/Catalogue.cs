using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;

namespace Skevin.Core.Collection;

/// <summary>What one workload has to give, and what of it is collected.</summary>
/// <param name="Endpoint">Its endpoint as "name number", null where its containers name no port for one.</param>
/// <param name="SamplesPerSecond">Measured at its endpoints; null where nothing came.</param>
/// <param name="LinesPerSecond">Measured of its containers' lines.</param>
/// <param name="SpansPerSecond">Measured of its spans.</param>
/// <param name="SendsSpans">Whether its containers say where to send spans.</param>
/// <param name="Advice">What it could give and does not, with what to do; empty where everything is collected.</param>
public sealed record CatalogueEntry(
    string Namespace, string Kind, string Workload, int Pods, string? Endpoint, double? SamplesPerSecond, double? LinesPerSecond, double? SpansPerSecond, bool SendsSpans, IReadOnlyList<string> Advice);

/// <summary>Rates measured a source, items a second, by signal and source name.</summary>
public sealed record SourceRates(IReadOnlyDictionary<(string Signal, string Source), double> PerSecond);

/// <summary>The catalogue of sources found in a cluster: producers that nobody has connected stand in it too.</summary>
public static class Catalogue
{
    // Words in the names of ports behind which metrics are often found; common practice, no source.
    private static readonly string[] EndpointWords = ["metric", "stats", "monitor", "telemetry"];

    /// <summary>Every workload with pods that run, the agents' own left out.</summary>
    public static IReadOnlyList<CatalogueEntry> Of(Inventory inventory, CollectionPlan plan, SourceRates measured) =>
    [
        .. inventory.Pods.Where(pod => pod.Namespace != Manifests.Namespace && pod.Phase == "Running").GroupBy(pod => (pod.Namespace, pod.WorkloadKind, pod.Workload))
            .OrderBy(group => group.Key.Namespace, StringComparer.Ordinal).ThenBy(group => group.Key.Workload, StringComparer.Ordinal).Select(group => Entry([.. group], plan, measured)),
    ];

    private static CatalogueEntry Entry(PodState[] pods, CollectionPlan plan, SourceRates measured)
    {
        var (ns, workload) = (pods[0].Namespace, pods[0].Workload);
        var ports = pods[0].Containers.SelectMany(container => container.Ports).ToArray();
        var wanted = plan.Metrics?.EndpointPort ?? new MetricsPlan().EndpointPort;
        var endpoint = ports.FirstOrDefault(port => port.Name == wanted);
        var other = endpoint is null ? ports.FirstOrDefault(port => EndpointWords.Any(word => port.Name.Contains(word, StringComparison.OrdinalIgnoreCase))) : null;
        var sends = pods.Any(pod => pod.Containers.Any(container => container.SendsSpans));
        double? Rate(string signal, IEnumerable<string> sources) => sources.Select(source => measured.PerSecond.TryGetValue((signal, source), out var rate) ? rate : (double?)null).Aggregate((double?)null, (sum, rate) => rate is null ? sum : (sum ?? 0) + rate);
        return new CatalogueEntry(
            ns, pods[0].WorkloadKind, workload, pods.Length, (endpoint ?? other) is { } port ? $"{port.Name} {port.Number}" : null,
            Rate("metrics", pods.SelectMany(pod => pod.Containers.SelectMany(container => container.Ports).Select(one => ExpectedSources.Endpoint(ns, pod.Name, one.Number)))),
            Rate("logs", pods.SelectMany(pod => pod.Containers.Select(container => ExpectedSources.Log(ns, pod.Name, container.Name)))),
            Rate("traces", [ExpectedSources.Spans(ns, workload)]), sends, [.. Advice(ns, plan, endpoint, other, sends)]);
    }

    private static IEnumerable<string> Advice(string ns, CollectionPlan plan, ContainerPort? endpoint, ContainerPort? other, bool sends)
    {
        var metrics = plan.Metrics ?? new MetricsPlan(false, false, false);
        if (endpoint is not null && !metrics.Endpoints)
            yield return $"It has an endpoint on port {endpoint.Name}; switch application endpoints on.";
        else if (endpoint is not null && !ExpectedSources.Chosen(metrics.Namespaces, ns))
            yield return $"It has an endpoint on port {endpoint.Name}; endpoints of {ns} are not chosen.";
        else if (other is not null)
            yield return $"Port {other.Name} {other.Number} looks like an endpoint, but the plan reads ports named {metrics.EndpointPort}: name it so.";
        if (plan.Logs is not { Containers: true })
            yield return "Its lines are not collected; switch lines of containers on.";
        else if (!ExpectedSources.Chosen(plan.Logs.Namespaces, ns))
            yield return $"Its lines are not collected; {ns} is not chosen.";
        if (sends && plan.Traces is null)
            yield return "It sends spans; switch spans on.";
        else if (!sends)
            yield return $"It says nowhere where to send spans: set OTEL_EXPORTER_OTLP_ENDPOINT to http://$(HOST_IP):{Manifests.SpanPort}, HOST_IP from status.hostIP.";
    }
}
