using k8s;
using k8s.Autorest;
using Skevin.ClusterApi;
using Skevin.Core.Clusters;

namespace Skevin.Agent.Collection;

/// <summary>The agent's way to the cluster API, and the pods of its node as it last listed them.</summary>
public sealed class ClusterAccess(AgentEnvironment environment)
{
    private readonly Lock _lock = new();
    private Kubernetes? _client;
    private string _clientToken = "";

    /// <summary>A client under the token as it is now: that of a service account is renewed while a pod runs.</summary>
    public Kubernetes Client
    {
        get
        {
            var token = File.ReadAllText(environment.AccountTokenFile).Trim();
            lock (_lock)
            {
                if (_client is null || token != _clientToken)
                {
                    _client?.Dispose();
                    _client = ClusterConnection.FromServiceAccount(environment.ClusterApi, token, environment.CertificateFile);
                    _clientToken = token;
                }
                return _client;
            }
        }
    }

    /// <summary>Pods of this node.</summary>
    public IReadOnlyList<PodState> Pods { get; private set; } = [];

    /// <summary>When they were listed last.</summary>
    public DateTimeOffset PodsAt { get; private set; }

    /// <summary>Why they could not be listed; null when they were.</summary>
    public string? PodsError { get; private set; }

    /// <summary>Lists the pods anew where that was longer ago.</summary>
    public async Task RefreshPods(DateTimeOffset now, TimeSpan every, CancellationToken stop)
    {
        if (now - PodsAt < every && PodsError is null)
            return;
        try
        {
            var list = await Client.CoreV1.ListPodForAllNamespacesAsync(fieldSelector: "spec.nodeName=" + environment.NodeName, cancellationToken: stop);
            Pods = [.. list.Items.Select(InventoryMapping.Pod)];
            (PodsAt, PodsError) = (now, null);
        }
        catch (Exception trouble) when (IsTrouble(trouble, stop))
        {
            PodsError = InventoryWatch.Words(trouble);
        }
    }

    /// <summary>Whether an exception is a trouble of the surroundings that is reported, not a fault of the program.</summary>
    public static bool IsTrouble(Exception trouble, CancellationToken stop) =>
        trouble is HttpOperationException or HttpRequestException or IOException or UnauthorizedAccessException or System.Text.Json.JsonException or FormatException
        || (trouble is OperationCanceledException && !stop.IsCancellationRequested);
}
