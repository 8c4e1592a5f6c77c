using System.Globalization;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization;
using Skevin.Core.Clusters;

namespace Skevin.StandIn.Model;

/// <summary>Where a pod is in its life.</summary>
public enum PodStep
{
    /// <summary>No node yet.</summary>
    Unscheduled,

    /// <summary>Placed; the container is being created.</summary>
    Creating,

    /// <summary>Running, readiness not yet answered.</summary>
    Started,

    /// <summary>Ready.</summary>
    Ready,

    /// <summary>Ended; waits for its back-off.</summary>
    BackOff,
}

/// <summary>A pod of the stand-in with its one container and its counters. All counters belong to the container's present run.</summary>
public sealed class SimPod
{
    public required string Namespace { get; init; }
    public required string Name { get; init; }
    public required string Uid { get; init; }
    public required string OwnerKind { get; init; }
    public required string OwnerName { get; init; }
    public required string TemplateHash { get; init; }
    public required string TemplateJson { get; init; }
    public required DateTimeOffset Created { get; init; }
    public string Node { get; set; } = "";
    public string[] Addresses { get; set; } = [];
    public PodStep Step { get; set; } = PodStep.Unscheduled;
    public DateTimeOffset StepSince { get; set; }
    public DateTimeOffset? ReadySince { get; set; }
    public DateTimeOffset ContainerStarted { get; set; }
    public string? CannotSchedule { get; set; }
    public int Restarts { get; set; }
    public int RecentFailures { get; set; }
    public DateTimeOffset? EndedAt { get; set; }
    public double CpuSeconds { get; set; }
    public double PodCpuSeconds { get; set; }
    public double MemoryBytes { get; set; }
    public double LeakedBytes { get; set; }
    public double ReceivedBytes { get; set; }
    public double SentBytes { get; set; }
    public double RequestsOk { get; set; }
    public double RequestsFailed { get; set; }
    public double SecondsServing { get; set; }
    public double InFlight { get; set; }

    /// <summary>Calls the pod made, by duration: one number for each of <see cref="CallBounds"/>, one for what took longer.</summary>
    public double[] Calls { get; set; } = new double[CallBounds.Length + 1];

    /// <summary>How long these calls took together, in seconds.</summary>
    public double SecondsCalling { get; set; }

    /// <summary>Seconds. Source: OpenTelemetry semantic conventions, "Metric: http.client.request.duration", advised bounds.</summary>
    public static readonly double[] CallBounds = [0.005, 0.01, 0.025, 0.05, 0.075, 0.1, 0.25, 0.5, 0.75, 1, 2.5, 5, 7.5, 10];

    /// <summary>Counts a call that was made.</summary>
    public void CountCall(double seconds, int weight = 1)
    {
        Calls[CallBounds.TakeWhile(bound => seconds > bound).Count()] += weight;
        SecondsCalling += seconds * weight;
    }

    /// <summary>Mean time in the pod for a request, its calls not counted, in seconds.</summary>
    public double ServiceSeconds { get; set; } = 0.01;

    /// <summary>Share of requests turned away.</summary>
    public double Refuses { get; set; }

    /// <summary>The model's time at the pod.</summary>
    public DateTimeOffset Now { get; set; }

    private static readonly TimeSpan LatelyIs = TimeSpan.FromSeconds(30);
    private readonly Queue<(DateTimeOffset At, double Seconds)> _lately = new();

    /// <summary>Counts a request that was answered.</summary>
    public void CountRequest(bool failed, double seconds, int weight = 1)
    {
        if (failed)
            RequestsFailed += weight;
        else
            RequestsOk += weight;
        SecondsServing += seconds * weight;
        ReceivedBytes += 900 * weight;
        SentBytes += 2300 * weight;
        _lately.Enqueue((Now, seconds));
        while (_lately.Count > 2000)
            _lately.Dequeue();
    }

    /// <summary>A quantile of the durations of the last 30 s, in seconds; 0 where there was no request.</summary>
    public double Lately(double share)
    {
        while (_lately.TryPeek(out var first) && Now - first.At > LatelyIs)
            _lately.Dequeue();
        var sorted = _lately.Select(request => request.Seconds).Order().ToArray();
        return sorted.Length == 0 ? 0 : sorted[(int)Math.Min(sorted.Length - 1, share * sorted.Length)];
    }

    /// <summary>Whether its node is lost: nobody knows what became of it.</summary>
    public bool Lost { get; set; }

    /// <summary>Why the image cannot be pulled, or null.</summary>
    public string? CannotPull { get; set; }

    /// <summary>Whether the container runs.</summary>
    [JsonIgnore]
    public bool Running => !Lost && (Step is PodStep.Started or PodStep.Ready);

    /// <summary>Whether it answers its readiness check.</summary>
    [JsonIgnore]
    public bool IsReady => !Lost && Step == PodStep.Ready;

    /// <summary>Restart back-off: 10 s, doubling, at most 5 min. Source: cluster documentation, "Restart policy".</summary>
    [JsonIgnore]
    public TimeSpan BackOff => TimeSpan.FromSeconds(Math.Min(300, 10 * Math.Pow(2, Math.Max(0, RecentFailures - 1))));

    private JsonObject? _template;

    /// <summary>The pod template it was made from.</summary>
    [JsonIgnore]
    public JsonObject Template => _template ??= (JsonObject)JsonNode.Parse(TemplateJson)!;

    /// <summary>Its container, as declared.</summary>
    [JsonIgnore]
    public JsonObject Container => (JsonObject)Template["spec"]!["containers"]![0]!;

    /// <summary>The container that was put beside it when it was made, or null.</summary>
    [JsonIgnore]
    public JsonObject? Sidecar => Template["spec"]!["containers"]!.AsArray().Skip(1).OfType<JsonObject>().FirstOrDefault(container => container["name"]?.GetValue<string>() == SidecarName);

    /// <summary>Name of that container.</summary>
    public const string SidecarName = "sidecar";

    /// <summary>Cores in use now, of its own container.</summary>
    public double Cores { get; set; }

    /// <summary>Seconds of processor the sidecar has used.</summary>
    public double SidecarCpuSeconds { get; set; }

    /// <summary>Bytes the sidecar uses.</summary>
    public double SidecarBytes => Sidecar is null ? 0 : 42 << 20;

    /// <summary>Whether it uses its node's own network.</summary>
    [JsonIgnore]
    public bool OnHostNetwork => Template["spec"]?["hostNetwork"]?.GetValue<bool>() == true;

    /// <summary>Requested cores and bytes.</summary>
    [JsonIgnore]
    public Resources Request => Amounts("requests");

    /// <summary>Limits in cores and bytes.</summary>
    [JsonIgnore]
    public Resources Limit => Amounts("limits");

    /// <summary>Starts the counters of a new run.</summary>
    public void Start(DateTimeOffset now)
    {
        ContainerStarted = now;
        (CpuSeconds, MemoryBytes, LeakedBytes) = (0, 0, 0);
        (RequestsOk, RequestsFailed, SecondsServing, SecondsCalling) = (0, 0, 0, 0);
        Array.Clear(Calls);
        _lately.Clear();
    }

    /// <summary>The object the cluster API shows.</summary>
    public JsonObject ToObject()
    {
        var metadata = new JsonObject
        {
            ["name"] = Name,
            ["namespace"] = Namespace,
            ["uid"] = Uid,
            ["creationTimestamp"] = Time(Created),
            ["labels"] = Template["metadata"]?["labels"]?.DeepClone() ?? new JsonObject(),
            ["ownerReferences"] = new JsonArray(new JsonObject
            {
                ["apiVersion"] = "apps/v1",
                ["kind"] = OwnerKind == "Deployment" ? "ReplicaSet" : OwnerKind,
                ["name"] = OwnerKind == "Deployment" ? $"{OwnerName}-{TemplateHash}" : OwnerName,
                ["uid"] = $"{OwnerKind}-{Namespace}-{OwnerName}",
                ["controller"] = true,
            }),
        };
        metadata["labels"]!["pod-template-hash"] = TemplateHash;
        if (Template["metadata"]?["annotations"] is { } annotations)
            metadata["annotations"] = annotations.DeepClone();
        var spec = (JsonObject)Template["spec"]!.DeepClone();
        if (Node.Length > 0)
            spec["nodeName"] = Node;
        var name = Container["name"]!.GetValue<string>();
        var container = new JsonObject
        {
            ["name"] = name,
            ["image"] = Container["image"]?.DeepClone(),
            ["ready"] = IsReady,
            ["restartCount"] = Restarts,
            ["state"] = State(),
        };
        if (EndedAt is { } ended)
            container["lastState"] = new JsonObject
            {
                ["terminated"] = new JsonObject { ["reason"] = "OOMKilled", ["exitCode"] = 137, ["finishedAt"] = Time(ended) },
            };
        var status = new JsonObject
        {
            ["phase"] = Step is PodStep.Unscheduled or PodStep.Creating ? "Pending" : "Running",
            ["conditions"] = Conditions(),
        };
        if (Step != PodStep.Unscheduled)
            status["containerStatuses"] = Sidecar is { } beside
                ? new JsonArray(container, new JsonObject { ["name"] = SidecarName, ["image"] = beside["image"]?.DeepClone(), ["ready"] = Running, ["restartCount"] = 0, ["state"] = Running ? State() : new JsonObject { ["waiting"] = new JsonObject { ["reason"] = "ContainerCreating" } } })
                : new JsonArray(container);
        if (Addresses.Length > 0)
        {
            status["podIP"] = Addresses[0];
            status["podIPs"] = new JsonArray([.. Addresses.Select(address => new JsonObject { ["ip"] = address })]);
        }
        return new JsonObject { ["apiVersion"] = "v1", ["kind"] = "Pod", ["metadata"] = metadata, ["spec"] = spec, ["status"] = status };
    }

    private JsonObject State() => Step switch
    {
        PodStep.Creating when CannotPull is not null => new JsonObject { ["waiting"] = new JsonObject { ["reason"] = "ImagePullBackOff", ["message"] = CannotPull } },
        PodStep.Creating => new JsonObject { ["waiting"] = new JsonObject { ["reason"] = "ContainerCreating" } },
        PodStep.BackOff => new JsonObject
        {
            ["waiting"] = new JsonObject
            {
                ["reason"] = "CrashLoopBackOff", ["message"] = $"back-off {BackOff.TotalSeconds:0}s restarting failed container",
            },
        },
        _ => new JsonObject { ["running"] = new JsonObject { ["startedAt"] = Time(ContainerStarted) } },
    };

    private JsonArray Conditions()
    {
        var scheduled = new JsonObject { ["type"] = "PodScheduled", ["status"] = Step == PodStep.Unscheduled ? "False" : "True", ["lastTransitionTime"] = Time(Created) };
        if (CannotSchedule is not null && Step == PodStep.Unscheduled)
            (scheduled["reason"], scheduled["message"]) = ("Unschedulable", CannotSchedule);
        return
        [
            scheduled,
            new JsonObject
            {
                ["type"] = "Ready", ["status"] = IsReady ? "True" : "False", ["lastTransitionTime"] = Time(ReadySince ?? StepSince),
            },
        ];
    }

    private Resources Amounts(string kind)
    {
        double Of(string name) => Quantity.Parse(Container["resources"]?[kind]?[name]?.GetValue<string>()) ?? 0;
        return new Resources(Of("cpu"), Of("memory"));
    }

    private static string Time(DateTimeOffset time) => time.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture);
}
