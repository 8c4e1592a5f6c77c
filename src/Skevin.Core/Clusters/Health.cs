namespace Skevin.Core.Clusters;

/// <summary>How well something is; marks are of the alarm vocabulary (RFC 8632).</summary>
public enum HealthLevel
{
    /// <summary>Well.</summary>
    Clear,

    /// <summary>On its way: starting.</summary>
    Warning,

    /// <summary>Part of it is not well.</summary>
    Minor,

    /// <summary>Not working, or not fully.</summary>
    Major,

    /// <summary>Nothing of it works.</summary>
    Critical,
}

/// <summary>A judgement with its chain of causes, the nearest first.</summary>
public sealed record Health(HealthLevel Level, IReadOnlyList<string> Because)
{
    /// <summary>Well.</summary>
    public static Health Well { get; } = new(HealthLevel.Clear, []);
}

/// <summary>Says whether pods, workloads and nodes are well, and why not.</summary>
public static class HealthOf
{
    /// <summary>A pod, with the node it is on where that explains it.</summary>
    public static Health Pod(PodState pod, NodeState? node)
    {
        if (pod.Phase == "Succeeded" || (pod.Ready && node is not { Ready: false }))
            return Health.Well;
        var because = new List<string>();
        var level = HealthLevel.Major;
        if (pod.Phase == "Pending" && pod.Node.Length == 0)
        {
            var scheduled = pod.Conditions.FirstOrDefault(condition => condition.Type == "PodScheduled");
            because.Add(scheduled is { Fulfilled: false, Message: not null }
                ? "No node takes it: " + scheduled.Message
                : "It waits for a node.");
            level = scheduled is { Fulfilled: false } ? HealthLevel.Major : HealthLevel.Warning;
        }
        foreach (var container in pod.Containers.Where(container => !container.Ready))
        {
            var says = Container(container);
            because.Add(says.Text);
            if (says.Starting && because.Count == 1)
                level = HealthLevel.Warning;
        }
        if (node is { Ready: false })
        {
            because.Add($"Its node {node.Name} is not ready: {node.NotReadyBecause}");
            level = HealthLevel.Major;
        }
        if (pod.Reason is { } reason)
            because.Insert(0, pod.Message is { } message ? $"{reason}: {message}" : reason);
        return new Health(level, because);
    }

    private static (string Text, bool Starting) Container(ContainerState container)
    {
        var ended = container.Last is { } last
            ? last.Reason == "OOMKilled"
                ? $" It was killed at its memory limit at {last.At:HH:mm:ss} (exit {last.ExitCode})."
                : $" It ended at {last.At:HH:mm:ss}: {last.Reason} (exit {last.ExitCode})."
            : "";
        return (container.State, container.Reason) switch
        {
            ("waiting", "ContainerCreating" or "PodInitializing") => ($"{container.Name} is being created.", true),
            ("waiting", "CrashLoopBackOff") =>
                ($"{container.Name} waits before its next start: {container.Message ?? "it keeps ending"}.{ended}", false),
            ("waiting", "ImagePullBackOff" or "ErrImagePull") =>
                ($"The image {container.Image} cannot be pulled: {container.Message ?? container.Reason}", false),
            ("waiting", var reason) => ($"{container.Name} waits: {reason ?? "no reason given"}{(container.Message is { } m ? $", {m}" : "")}.{ended}", false),
            ("terminated", var reason) => ($"{container.Name} has ended: {reason}.{ended}", false),
            _ => ($"{container.Name} runs but does not answer its readiness check yet.{ended}", container.Last is null),
        };
    }

    /// <summary>A workload, from its own numbers.</summary>
    public static Health Workload(WorkloadState workload, IReadOnlyList<Health> pods)
    {
        if (workload.Ready >= workload.Desired && pods.All(pod => pod.Level == HealthLevel.Clear))
            return Health.Well;
        var because = pods.SelectMany(pod => pod.Because).Distinct().ToArray();
        if (workload.Ready >= workload.Desired)
            return new Health(pods.Max(pod => pod.Level), because);
        var starting = pods.Count >= workload.Desired && pods.All(pod => pod.Level <= HealthLevel.Warning);
        var level = starting ? HealthLevel.Warning : workload.Ready == 0 ? HealthLevel.Critical : HealthLevel.Major;
        return new Health(level, [$"{workload.Ready} of {workload.Desired} pods are ready.", .. because]);
    }

    /// <summary>A node.</summary>
    public static Health Node(NodeState node) =>
        node.Ready ? Health.Well : new Health(HealthLevel.Critical, [node.NotReadyBecause ?? "No reason given."]);
}
