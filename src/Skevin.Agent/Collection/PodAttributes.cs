using Skevin.Core.Clusters;

namespace Skevin.Agent.Collection;

/// <summary>Resource attributes of pods and nodes, named by the semantic conventions.</summary>
public static class PodAttributes
{
    /// <summary>A pod, with its workload.</summary>
    public static List<KeyValuePair<string, string>> Of(PodState pod)
    {
        var attributes = new List<KeyValuePair<string, string>>
        {
            new("k8s.namespace.name", pod.Namespace),
            new("k8s.pod.name", pod.Name),
            new("k8s.node.name", pod.Node),
        };
        var name = pod.WorkloadKind switch
        {
            "Deployment" => "k8s.deployment.name",
            "StatefulSet" => "k8s.statefulset.name",
            "DaemonSet" => "k8s.daemonset.name",
            "Job" => "k8s.job.name",
            _ => null,
        };
        if (name is not null)
            attributes.Add(new(name, pod.Workload));
        return attributes;
    }

    /// <summary>A container of a pod.</summary>
    public static List<KeyValuePair<string, string>> Of(PodState pod, string container) =>
        [.. Of(pod), new("k8s.container.name", container)];

    /// <summary>A node.</summary>
    public static List<KeyValuePair<string, string>> Node(string name) => [new("k8s.node.name", name)];
}
