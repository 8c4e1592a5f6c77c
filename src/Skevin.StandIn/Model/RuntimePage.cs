using System.Globalization;
using System.Text;

namespace Skevin.StandIn.Model;

/// <summary>The text page of a node's container runtime: containers, idle containers and whole pods under the same names.</summary>
public static class RuntimePage
{
    /// <summary>Where it stands.</summary>
    public const string Path = "metrics/containers";

    // What holds a pod's addresses needs next to nothing.
    private const double IdleCores = 0.00002;
    private const double IdleBytes = 400_000;

    /// <summary>The page of a node.</summary>
    public static string Of(SimCluster cluster, string node, DateTimeOffset now)
    {
        var text = new StringBuilder();
        var pods = cluster.Pods.Where(pod => pod.Node == node && pod.Running).OrderBy(pod => pod.Name, StringComparer.Ordinal).ToArray();
        Family("container_processing_seconds_total", "counter", "Processor time used.", pod => pod.CpuSeconds, pod => pod.SidecarCpuSeconds, pod => (now - pod.Created).TotalSeconds * IdleCores);
        Family("container_memory_resident_bytes", "gauge", "Memory in use.", pod => pod.MemoryBytes, pod => pod.SidecarBytes, _ => IdleBytes);
        text.Append("# HELP container_network_received_bytes_total Bytes received.\n# TYPE container_network_received_bytes_total counter\n");
        foreach (var pod in pods)
            text.Append(CultureInfo.InvariantCulture, $"container_network_received_bytes_total{{container=\"\",id=\"/pods/{pod.Uid}\",image=\"\",interface=\"eth0\",name=\"\",namespace=\"{pod.Namespace}\",pod=\"{pod.Name}\"}} {Math.Floor(pod.ReceivedBytes)}\n");
        return text.ToString();

        void Family(string name, string type, string help, Func<SimPod, double> own, Func<SimPod, double> beside, Func<SimPod, double> idle)
        {
            text.Append(CultureInfo.InvariantCulture, $"# HELP {name} {help}\n# TYPE {name} {type}\n");
            foreach (var pod in pods)
            {
                var (container, image) = (pod.Container["name"]!.GetValue<string>(), pod.Container["image"]?.GetValue<string>() ?? "");
                void Line(string of, string id, string from, double value) =>
                    text.Append(CultureInfo.InvariantCulture, $"{name}{{container=\"{of}\",id=\"/pods/{pod.Uid}{id}\",image=\"{from}\",name=\"{id.TrimStart('/')}\",namespace=\"{pod.Namespace}\",pod=\"{pod.Name}\"}} {value:R}\n");
                Line(container, $"/{container}-{pod.Restarts}", image, own(pod));
                if (pod.Sidecar is { } sidecar)
                    Line(SimPod.SidecarName, "/" + SimPod.SidecarName, sidecar["image"]?.GetValue<string>() ?? "", beside(pod));
                Line("", "/hold", "runtime/hold:3", idle(pod));
                Line("", "", "", own(pod) + beside(pod) + idle(pod));
            }
        }
    }
}
