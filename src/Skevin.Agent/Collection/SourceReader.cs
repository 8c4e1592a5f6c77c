using System.Collections.Concurrent;
using System.Net.Sockets;
using System.Text.Json;
using k8s;
using k8s.Autorest;
using Skevin.ClusterApi;
using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using Skevin.Core.Formats.OpenMetrics;

namespace Skevin.Agent.Collection;

/// <summary>What reading a source gave.</summary>
/// <param name="Source">Its name.</param>
/// <param name="Metrics">What was read; null where nothing could be.</param>
/// <param name="Error">What went wrong; begins with the HTTP status where there was an answer.</param>
public sealed record SourceResult(string Source, MetricsBuilder? Metrics, string? Error);

/// <summary>What an endpoint gave when it was read last.</summary>
/// <param name="At">Stamp of that pass.</param>
/// <param name="Status">Of the answer.</param>
/// <param name="ContentType">Of the answer.</param>
/// <param name="Text">The beginning of it.</param>
/// <param name="Length">Characters in all.</param>
public sealed record RawPage(DateTimeOffset At, int Status, string ContentType, string Text, int Length);

/// <summary>Reads the sources of a plan once.</summary>
public sealed class SourceReader(AgentEnvironment environment, ClusterAccess cluster, HttpClient http)
{
    private const int LongestExposition = 16 * 1024 * 1024;
    private const int KeptOfPage = 128 * 1024;
    private const int KeptPages = 64;
    private const string Accepted = "application/openmetrics-text;version=1.0.0,text/plain;version=0.0.4;q=0.5";

    /// <summary>The last page of each endpoint, cut to its beginning.</summary>
    public ConcurrentDictionary<string, RawPage> Pages { get; } = new();

    private void Keep(string source, RawPage page)
    {
        Pages[source] = page with { Text = page.Text.Length > KeptOfPage ? page.Text[..KeptOfPage] : page.Text };
        while (Pages.Count > KeptPages && Pages.MinBy(pair => pair.Value.At).Key is { } oldest)
            Pages.TryRemove(oldest, out _);
    }

    /// <summary>One pass over everything the plan asks of this agent.</summary>
    /// <param name="plan">The plan in force.</param>
    /// <param name="now">Stamp of the pass.</param>
    /// <param name="stop">Cancels.</param>
    public async Task<IReadOnlyList<SourceResult>> Read(CollectionPlan plan, DateTimeOffset now, CancellationToken stop)
    {
        if (plan.Metrics is not { } metrics)
            return [];
        if (environment.Role == AgentRole.Gather)
            return [];
        if (environment.Role == AgentRole.State)
            return metrics.ClusterState ? [await State(now, stop)] : [];
        var reads = new List<Task<SourceResult>>();
        if (metrics.HostMetrics)
            reads.Add(Task.FromResult(Host(ExpectedSources.Host(environment.NodeName), now, stop)));
        if (metrics.ResourceUsage || metrics.Endpoints || metrics.RuntimePath is not null)
            await cluster.RefreshPods(now, TimeSpan.FromSeconds(Math.Max(metrics.EverySeconds, 10)), stop);
        if (metrics.ResourceUsage)
            reads.Add(Usage(now, stop));
        if (metrics.RuntimePath is { } page)
            reads.Add(Runtime(page, metrics, now, stop));
        foreach (var pod in cluster.Pods.Where(pod => ExpectedSources.IsCollected(metrics, pod)))
            foreach (var container in pod.Containers)
                foreach (var port in container.Ports.Where(port => port.Name == metrics.EndpointPort))
                    reads.Add(Endpoint(pod, container.Name, port.Number, metrics, now, stop));
        var results = await Task.WhenAll(reads);
        foreach (var result in results)
            result.Metrics?.LeaveOut(metrics.Rules);
        return results;
    }

    /// <summary>One pass over everything the plan of a machine outside of clusters asks for.</summary>
    public async Task<IReadOnlyList<SourceResult>> Read(MachinePlan plan, DateTimeOffset now, CancellationToken stop)
    {
        var reads = (plan.Endpoints ?? []).Select(endpoint => Endpoint(ExpectedSources.MachineEndpoint(environment.NodeName, endpoint.Name), endpoint.Url, [.. environment.Place, new("service.name", endpoint.Name)], null, now, stop)).ToList();
        if (plan.HostMetrics)
            reads.Add(Task.FromResult(Host(ExpectedSources.MachineHost(environment.NodeName), now, stop)));
        return await Task.WhenAll(reads);
    }

    private SourceResult Host(string source, DateTimeOffset now, CancellationToken stop)
    {
        var builder = new MetricsBuilder(source, now);
        try
        {
            HostMetrics.Read(environment.HostRoot, environment.Place, builder);
            return new(builder.Source, builder, null);
        }
        catch (Exception trouble) when (ClusterAccess.IsTrouble(trouble, stop))
        {
            return new(builder.Source, null, "the node's counters cannot be read: " + trouble.Message);
        }
    }

    private async Task<SourceResult> Usage(DateTimeOffset now, CancellationToken stop)
    {
        var builder = new MetricsBuilder(ExpectedSources.NodeUsage(environment.NodeName), now);
        try
        {
            using var patience = Patience(stop);
            await using var body = await cluster.Client.CoreV1.ConnectGetNodeProxyWithPathAsync(environment.NodeName, "stats/summary", cancellationToken: patience.Token);
            using var summary = await JsonDocument.ParseAsync(body, cancellationToken: patience.Token);
            NodeUsage.Read(summary.RootElement, cluster.Pods.ToDictionary(pod => pod.Uid), builder);
            return new(builder.Source, builder, cluster.PodsError);
        }
        catch (Exception trouble) when (ClusterAccess.IsTrouble(trouble, stop))
        {
            return new(builder.Source, null, InventoryWatch.Words(trouble));
        }
    }

    private async Task<SourceResult> Runtime(string path, MetricsPlan plan, DateTimeOffset now, CancellationToken stop)
    {
        var builder = new MetricsBuilder(ExpectedSources.Runtime(environment.NodeName), now);
        try
        {
            using var patience = Patience(stop);
            await using var body = await cluster.Client.CoreV1.ConnectGetNodeProxyWithPathAsync(environment.NodeName, path, cancellationToken: patience.Token);
            var text = await Limited(body, patience.Token);
            Keep(builder.Source, new RawPage(now, 200, "text/plain", text, text.Length));
            // These pages are of the older form: no end mark, counters under their whole names.
            var reading = OpenMetricsText.Read(text, strict: false);
            var pods = cluster.Pods.DistinctBy(pod => (pod.Namespace, pod.Name)).ToDictionary(pod => (pod.Namespace, pod.Name));
            foreach (var (resource, families) in ByPod(MetricRules.Apply(RuntimeEntries.Told(reading), plan.Rules), pods))
                Exposition.Read(new OpenMetricsReading(families, null), resource, builder);
            return new(builder.Source, builder, reading.Error is null ? cluster.PodsError : "malformed: " + reading.Error);
        }
        catch (Exception trouble) when (ClusterAccess.IsTrouble(trouble, stop) || trouble is InvalidDataException)
        {
            return new(builder.Source, null, InventoryWatch.Words(trouble));
        }
    }

    // Entries of one pod stand under the attributes of its workload.
    private IEnumerable<(List<KeyValuePair<string, string>> Resource, IReadOnlyList<OpenMetricsFamily> Families)> ByPod(OpenMetricsReading page, IReadOnlyDictionary<(string, string), PodState> pods)
    {
        static string Value(OpenMetricsSample sample, string name) => sample.Labels.FirstOrDefault(label => label.Key == name).Value ?? "";
        foreach (var group in page.Families.SelectMany(family => family.Samples.Select(sample => (family, sample))).GroupBy(one => (Value(one.sample, "k8s.namespace.name"), Value(one.sample, "k8s.pod.name"))))
        {
            var resource = pods.TryGetValue(group.Key, out var pod) ? PodAttributes.Of(pod) : PodAttributes.Node(environment.NodeName);
            var known = resource.Select(pair => pair.Key).ToHashSet();
            yield return (resource, [.. group.GroupBy(one => one.family).Select(family => family.Key with { Samples = [.. family.Select(one => one.sample with { Labels = [.. one.sample.Labels.Where(label => !known.Contains(label.Key))] })] })]);
        }
    }

    private static async Task<string> Limited(Stream body, CancellationToken stop)
    {
        using var whole = new MemoryStream();
        var buffer = new byte[65536];
        for (int count; (count = await body.ReadAsync(buffer, stop)) > 0;)
        {
            whole.Write(buffer, 0, count);
            if (whole.Length > LongestExposition)
                throw new InvalidDataException($"the page is longer than {LongestExposition >> 20} MiB");
        }
        return System.Text.Encoding.UTF8.GetString(whole.GetBuffer(), 0, (int)whole.Length);
    }

    private async Task<SourceResult> State(DateTimeOffset now, CancellationToken stop)
    {
        var builder = new MetricsBuilder(ExpectedSources.ClusterState, now);
        try
        {
            using var patience = Patience(stop);
            var token = patience.Token;
            var inventory = Inventory.Empty with
            {
                Nodes = [.. (await cluster.Client.CoreV1.ListNodeAsync(cancellationToken: token)).Items.Select(InventoryMapping.Node)],
                Pods = [.. (await cluster.Client.CoreV1.ListPodForAllNamespacesAsync(cancellationToken: token)).Items.Select(InventoryMapping.Pod)],
                Workloads =
                [
                    .. (await cluster.Client.AppsV1.ListDeploymentForAllNamespacesAsync(cancellationToken: token)).Items.Select(InventoryMapping.Workload),
                    .. (await cluster.Client.AppsV1.ListStatefulSetForAllNamespacesAsync(cancellationToken: token)).Items.Select(InventoryMapping.Workload),
                    .. (await cluster.Client.AppsV1.ListDaemonSetForAllNamespacesAsync(cancellationToken: token)).Items.Select(InventoryMapping.Workload),
                ],
            };
            ClusterState.Read(inventory, builder);
            return new(builder.Source, builder, null);
        }
        catch (Exception trouble) when (ClusterAccess.IsTrouble(trouble, stop))
        {
            return new(builder.Source, null, InventoryWatch.Words(trouble));
        }
    }

    private async Task<SourceResult> Endpoint(PodState pod, string container, int port, MetricsPlan plan, DateTimeOffset now, CancellationToken stop)
    {
        var address = pod.Addresses[0];
        var host = address.Contains(':') ? $"[{address}]" : address;
        return await Endpoint(ExpectedSources.Endpoint(pod.Namespace, pod.Name, port), $"http://{host}:{port}{plan.EndpointPath}", [.. PodAttributes.Of(pod, container), new("service.name", pod.Workload)], plan.Rules, now, stop);
    }

    private async Task<SourceResult> Endpoint(string source, string url, List<KeyValuePair<string, string>> resource, IReadOnlyList<MetricRule>? rules, DateTimeOffset now, CancellationToken stop)
    {
        var builder = new MetricsBuilder(source, now);
        var said = url[(url.IndexOf("//", StringComparison.Ordinal) + 2)..];
        var host = said.Split('/')[0];
        try
        {
            using var patience = Patience(stop);
            using var request = new HttpRequestMessage(HttpMethod.Get, url);
            request.Headers.TryAddWithoutValidation("Accept", Accepted);
            using var answer = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, patience.Token);
            if (!answer.IsSuccessStatusCode)
            {
                Keep(builder.Source, new RawPage(now, (int)answer.StatusCode, answer.Content.Headers.ContentType?.ToString() ?? "", "", 0));
                return new(builder.Source, null, $"{(int)answer.StatusCode} answer of {said}");
            }
            await answer.Content.LoadIntoBufferAsync(LongestExposition, patience.Token);
            var text = await answer.Content.ReadAsStringAsync(patience.Token);
            Keep(builder.Source, new RawPage(now, (int)answer.StatusCode, answer.Content.Headers.ContentType?.ToString() ?? "", text, text.Length));
            var strict = answer.Content.Headers.ContentType?.MediaType == "application/openmetrics-text";
            var reading = OpenMetricsText.Read(text, strict);
            Exposition.Read(MetricRules.Apply(reading, rules), resource, builder);
            return new(builder.Source, builder, reading.Error is null ? null : "malformed: " + reading.Error);
        }
        catch (Exception trouble) when (ClusterAccess.IsTrouble(trouble, stop))
        {
            return new(builder.Source, null, trouble switch
            {
                HttpRequestException { InnerException: SocketException { SocketErrorCode: SocketError.ConnectionRefused } } => $"connection refused by {host}",
                OperationCanceledException => $"no answer of {said} within 10 s",
                _ => trouble.Message,
            });
        }
    }

    private static CancellationTokenSource Patience(CancellationToken stop)
    {
        var source = CancellationTokenSource.CreateLinkedTokenSource(stop);
        source.CancelAfter(TimeSpan.FromSeconds(10));
        return source;
    }
}
