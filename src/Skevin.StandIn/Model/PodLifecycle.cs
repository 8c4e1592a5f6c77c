using Skevin.Core.Collection;
using Skevin.StandIn.Api;
using Skevin.StandIn.Telemetry;

namespace Skevin.StandIn.Model;

/// <summary>What pods pass through: placed, pulled, started, ready, killed for memory, held back and started again. Each step is told as an event and shown in the API.</summary>
/// <param name="place">Finds a node for a pod; false where there is none.</param>
/// <param name="hasNetwork">Whether pods of a node have a network.</param>
internal sealed class PodLifecycle(ObjectStore store, EventRecorder events, Faults faults, ClusterTelemetry telemetry, Func<SimPod, bool> place, Func<string, bool> hasNetwork)
{
    /// <summary>Where a pod stands in the API.</summary>
    public static ObjectKey Key(SimPod pod) => new("", "pods", pod.Namespace, pod.Name);

    /// <summary>Name of its first container.</summary>
    public static string ContainerOf(SimPod pod) => pod.Container["name"]!.GetValue<string>();

    /// <summary>Shows a pod in the API as it is.</summary>
    public void Show(SimPod pod) => store.Put(Key(pod), pod.ToObject());

    /// <summary>Takes a pod as far as it has come by a moment.</summary>
    public void Live(SimPod pod, DateTimeOffset now)
    {
        if (pod.Lost)
            return;
        var since = now - pod.StepSince;
        switch (pod.Step)
        {
            case PodStep.Unscheduled when since >= TimeSpan.FromSeconds(1):
                if (place(pod))
                {
                    Enter(pod, PodStep.Creating, now);
                    events.Write(now, pod, "Normal", "Scheduled", $"Successfully assigned {pod.Namespace}/{pod.Name} to {pod.Node}");
                }
                else
                {
                    events.Write(now, pod, "Warning", "FailedScheduling", pod.CannotSchedule ?? "");
                }
                break;
            case PodStep.Creating when since >= TimeSpan.FromSeconds(3) && pod.Container["image"]?.GetValue<string>() is var image && WhyNotPulled(image) is { } why:
                if (pod.CannotPull is not null)
                    break;
                pod.CannotPull = $"Back-off pulling image \"{image}\": {why}";
                events.Write(now, pod, "Warning", "Failed", $"Failed to pull image \"{image}\": {why}");
                Show(pod);
                break;
            case PodStep.Creating when since >= TimeSpan.FromSeconds(3) && !pod.OnHostNetwork && !hasNetwork(pod.Node):
                if (since < TimeSpan.FromSeconds(10) && pod.Restarts == 0)
                    events.Write(now, pod, "Warning", "FailedCreatePodSandBox", "network is not ready: container runtime network not ready");
                break;
            case PodStep.Creating when since >= TimeSpan.FromSeconds(3):
                Begin(pod, now);
                break;
            case PodStep.Started when since >= TimeSpan.FromSeconds(2):
                pod.ReadySince = now;
                Enter(pod, PodStep.Ready, now);
                break;
            case PodStep.Ready or PodStep.Started when pod.Limit.Memory > 0 && pod.MemoryBytes > pod.Limit.Memory:
                pod.RecentFailures = now - pod.ContainerStarted > TimeSpan.FromMinutes(10) ? 1 : pod.RecentFailures + 1;
                pod.EndedAt = now;
                pod.ReadySince = null;
                Enter(pod, PodStep.BackOff, now);
                events.Write(now, pod, "Warning", "OOMKilling", $"Memory of container {ContainerOf(pod)} passed its limit; it was killed");
                events.Write(now, pod, "Warning", "BackOff", $"Back-off {pod.BackOff.TotalSeconds:0} s restarting failed container {ContainerOf(pod)}");
                break;
            case PodStep.BackOff when since >= pod.BackOff:
                pod.Restarts++;
                Begin(pod, now);
                break;
        }
    }

    private void Begin(SimPod pod, DateTimeOffset now)
    {
        pod.CannotPull = null;
        pod.Start(now);
        Enter(pod, PodStep.Started, now);
        events.Write(now, pod, "Normal", "Started", $"Started container {ContainerOf(pod)}");
        SayStarted(pod, now);
    }

    /// <summary>The first line of a container that was started.</summary>
    public void SayStarted(SimPod pod, DateTimeOffset at)
    {
        if (pod.Sidecar is not null)
            telemetry.Logs?.Write(pod, at.ToUnixTimeMilliseconds() * 1_000_000, false, $"INFO sidecar of {pod.Name} takes its connections", SimPod.SidecarName);
        if (Scenario.Of(pod) is { } workload)
            telemetry.Logs?.Write(pod, at.ToUnixTimeMilliseconds() * 1_000_000, false, workload.JsonLogs
                ? $"{{\"level\":\"info\",\"message\":\"{workload.Name} started\"}}" : $"INFO {workload.Name} started");
    }

    private void Enter(SimPod pod, PodStep step, DateTimeOffset now)
    {
        pod.Step = step;
        pod.StepSince = now;
        Show(pod);
    }

    private string? WhyNotPulled(string? image) => image?.StartsWith("larkfield/", StringComparison.Ordinal) == true ? null
        : image != Manifests.Image ? "not found" : faults.IsOn(Faults.ImagePolicy) ? "denied by the image policy of the cluster" : null;
}
