using Skevin.Core.Clusters;

namespace Skevin.Agent.Collection;

/// <summary>State of nodes, pods and workloads as metrics. Names: OpenTelemetry semantic conventions (from memory).</summary>
public static class ClusterState
{
    /// <summary>Adds the metrics of an inventory.</summary>
    public static void Read(Inventory inventory, MetricsBuilder into)
    {
        foreach (var node in inventory.Nodes)
        {
            var attributes = PodAttributes.Node(node.Name);
            into.Gauge(attributes, "k8s.node.condition.status", "{node}", node.Ready ? 1 : 0, new KeyValuePair<string, string>("k8s.node.condition.type", "Ready"));
            into.Gauge(attributes, "k8s.node.cpu.allocatable", "{core}", node.Allocatable.Cores);
            into.Gauge(attributes, "k8s.node.memory.allocatable", "By", node.Allocatable.Memory);
        }
        foreach (var pod in inventory.Pods)
        {
            into.Gauge(PodAttributes.Of(pod), "k8s.pod.status.phase", "{pod}", 1, new KeyValuePair<string, string>("k8s.pod.status.phase", pod.Phase));
            foreach (var container in pod.Containers)
            {
                var attributes = PodAttributes.Of(pod, container.Name);
                into.Gauge(attributes, "k8s.container.restart.count", "{restart}", container.Restarts);
                into.Gauge(attributes, "k8s.container.ready", "{container}", container.Ready ? 1 : 0);
                if (container.Request.Cores > 0)
                    into.Gauge(attributes, "k8s.container.cpu.request", "{core}", container.Request.Cores);
                if (container.Limit.Cores > 0)
                    into.Gauge(attributes, "k8s.container.cpu.limit", "{core}", container.Limit.Cores);
                if (container.Request.Memory > 0)
                    into.Gauge(attributes, "k8s.container.memory.request", "By", container.Request.Memory);
                if (container.Limit.Memory > 0)
                    into.Gauge(attributes, "k8s.container.memory.limit", "By", container.Limit.Memory);
            }
        }
        foreach (var workload in inventory.Workloads)
        {
            var kind = workload.Kind.ToLowerInvariant();
            KeyValuePair<string, string>[] attributes = [new("k8s.namespace.name", workload.Namespace), new($"k8s.{kind}.name", workload.Name)];
            var unit = workload.Kind == "DaemonSet" ? ("node", "desired_scheduled", "ready") : ("pod", "desired", "available");
            into.Gauge(attributes, $"k8s.{kind}.{unit.Item1}.{unit.Item2}", $"{{{unit.Item1}}}", workload.Desired);
            into.Gauge(attributes, $"k8s.{kind}.{unit.Item1}.{unit.Item3}", $"{{{unit.Item1}}}", workload.Available);
        }
    }
}
