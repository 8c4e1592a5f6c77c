using System.Text.Json;
using System.Text.Json.Nodes;

namespace Skevin.Core.Collection;

/// <summary>One object to apply.</summary>
/// <param name="ApiVersion">Group and version.</param>
/// <param name="Kind">Kind.</param>
/// <param name="Namespace">Null at cluster scope.</param>
/// <param name="Name">Name.</param>
/// <param name="Body">The whole object.</param>
public sealed record Manifest(string ApiVersion, string Kind, string? Namespace, string Name, JsonObject Body);

/// <summary>The objects that put a plan in force.</summary>
public static class Manifests
{
    /// <summary>Namespace of everything Skevin puts into a cluster.</summary>
    public const string Namespace = "skevin-agents";

    /// <summary>Name of the agent on every node, its account and role.</summary>
    public const string Agent = "skevin-agent";

    /// <summary>The configuration object of a revision. Each has its own, so that agents a roll-out has not reached go on as they were.</summary>
    public static string ConfigurationOf(string revision) => $"{Agent}-{revision}";

    /// <summary>Name of the one collector of cluster state.</summary>
    public const string StateCollector = "skevin-state";

    /// <summary>Name of the one collector that holds traces until they are whole, and of the service that leads to it.</summary>
    public const string TraceCollector = "skevin-traces";

    /// <summary>Where the agents on the nodes send spans when traces are gathered.</summary>
    public static readonly string GatheringAddress = $"http://{TraceCollector}.{Namespace}:{SpanPort}";

    /// <summary>All workloads a plan may need.</summary>
    public static readonly IReadOnlyList<string> Workloads = [Agent, StateCollector, TraceCollector];

    /// <summary>Where the headers of further destinations stand in the agent's container.</summary>
    public const string DestinationsFolder = "/etc/skevin-destinations";

    /// <summary>Secret that holds the ingest token.</summary>
    public const string TokenSecret = "skevin-ingest";

    /// <summary>Annotation that carries the plan's revision.</summary>
    public const string RevisionAnnotation = "skevin.io/plan-revision";

    /// <summary>Annotation on a role's rules that says what each is for.</summary>
    public const string NeedsAnnotation = "skevin.io/needs";

    /// <summary>Port on which an agent answers <c>/status</c>.</summary>
    public const int StatusPort = 5189;

    /// <summary>Port on which an agent takes OTLP over HTTP. Source: OpenTelemetry protocol specification, default port.</summary>
    public const int SpanPort = 4318;

    /// <summary>Port on which an agent takes IPFIX over TCP. Source: IANA, service "ipfix".</summary>
    public const int FlowPort = 4739;

    /// <summary>Port of its container on which an agent takes syslog: one for which it needs no capability.</summary>
    public const int SyslogPort = 20514;

    /// <summary>Port of the node that leads there, UDP and TCP. Source: IANA, service "syslog".</summary>
    public const int SyslogNodePort = 514;

    /// <summary>Where an agent that reads logs keeps buffer and read marks on its node.</summary>
    public const string BufferOnNode = "/var/lib/skevin-agent";

    /// <summary>Where the node's own files stand in the agent's container.</summary>
    public const string HostRoot = "/host";

    /// <summary>Image of the agent.</summary>
    public const string Image = "skevin/agent:0.1.0";

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { WriteIndented = true };

    /// <summary>All objects, in the order they are applied.</summary>
    /// <param name="configuration">What the agents are told.</param>
    /// <param name="token">The ingest token, or null for a preview: then the secret is left out, since a bare secret never
    /// stands in a manifest that is shown.</param>
    /// <param name="image">Image of the agent.</param>
    /// <param name="held">Whether the cluster is to leave agents that run as they are: each new one waits until its predecessor is taken away.</param>
    public static IReadOnlyList<Manifest> For(AgentConfiguration configuration, string? token, string image = Image, bool held = false)
    {
        var revision = configuration.Revision.ToString(System.Globalization.CultureInfo.InvariantCulture);
        var rights = Permissions.For(configuration.Plan);
        var list = new List<Manifest>
        {
            OfNamespace,
            Object("v1", "ServiceAccount", Namespace, Agent, new()),
            WithNeeds(Object("rbac.authorization.k8s.io/v1", "ClusterRole", null, Agent, new()
            {
                ["rules"] = new JsonArray([.. rights.Select(right => new JsonObject
                {
                    ["apiGroups"] = Texts(right.ApiGroups),
                    ["resources"] = Texts(right.Resources),
                    ["verbs"] = Texts(right.Verbs),
                })]),
            }), rights),
            Object("rbac.authorization.k8s.io/v1", "ClusterRoleBinding", null, Agent, new()
            {
                ["roleRef"] = new JsonObject
                {
                    ["apiGroup"] = "rbac.authorization.k8s.io", ["kind"] = "ClusterRole", ["name"] = Agent,
                },
                ["subjects"] = new JsonArray(new JsonObject
                {
                    ["kind"] = "ServiceAccount", ["name"] = Agent, ["namespace"] = Namespace,
                }),
            }),
            Object("v1", "ConfigMap", Namespace, ConfigurationOf(revision), new()
            {
                ["data"] = new JsonObject { ["agent.json"] = JsonSerializer.Serialize(configuration, Json) },
            }),
        };
        if (token is not null)
            list.Add(Object("v1", "Secret", Namespace, TokenSecret, new()
            {
                ["type"] = "Opaque",
                ["data"] = new JsonObject { ["token"] = Convert.ToBase64String(System.Text.Encoding.UTF8.GetBytes(token)) },
            }));
        list.Add(Object("apps/v1", "DaemonSet", Namespace, Agent, new()
        {
            ["spec"] = new JsonObject
            {
                ["selector"] = Selector(Agent),
                ["updateStrategy"] = UpdateStrategy(held),
                ["template"] = Template(Agent, revision, "node", image, configuration.Plan),
            },
        }));
        if (NeedsStateCollector(configuration.Plan))
            list.Add(Object("apps/v1", "Deployment", Namespace, StateCollector, new()
            {
                ["spec"] = new JsonObject
                {
                    ["replicas"] = 1,
                    ["paused"] = held,
                    ["selector"] = Selector(StateCollector),
                    ["template"] = Template(StateCollector, revision, "state", image, configuration.Plan),
                },
            }));
        if (NeedsTraceCollector(configuration.Plan))
        {
            list.Add(Object("v1", "Service", Namespace, TraceCollector, new()
            {
                ["spec"] = new JsonObject
                {
                    ["selector"] = new JsonObject { ["app.kubernetes.io/name"] = TraceCollector },
                    ["ports"] = new JsonArray(new JsonObject { ["name"] = "otlp-http", ["port"] = SpanPort, ["targetPort"] = SpanPort }),
                },
            }));
            list.Add(Object("apps/v1", "Deployment", Namespace, TraceCollector, new()
            {
                ["spec"] = new JsonObject
                {
                    // One: all spans of a trace have to meet. Two at once would judge halves of traces.
                    ["replicas"] = 1,
                    ["strategy"] = new JsonObject { ["type"] = "Recreate" },
                    ["paused"] = held,
                    ["selector"] = Selector(TraceCollector),
                    ["template"] = Template(TraceCollector, revision, "gather", image, configuration.Plan),
                },
            }));
        }
        return list;
    }

    /// <summary>The agents' namespace.</summary>
    public static Manifest OfNamespace => Object("v1", "Namespace", null, Namespace, new());

    /// <summary>The secret with the header that opens a further destination.</summary>
    public static Manifest DestinationSecret(Destination destination, string authorization) => Object("v1", "Secret", Namespace, destination.Secret, new()
    {
        ["type"] = "Opaque",
        ["data"] = new JsonObject { ["authorization"] = Convert.ToBase64String(System.Text.Encoding.UTF8.GetBytes(authorization)) },
    });

    /// <summary>Whether a plan needs the one collector that gathers traces.</summary>
    public static bool NeedsTraceCollector(CollectionPlan plan) => plan.Traces?.Tail is not null;

    /// <summary>The workloads of <see cref="Workloads"/> that run as one for the whole cluster under a plan, each with what it is called.</summary>
    public static IEnumerable<(string Name, string Title)> Collectors(CollectionPlan plan)
    {
        if (NeedsStateCollector(plan))
            yield return (StateCollector, "cluster state");
        if (NeedsTraceCollector(plan))
            yield return (TraceCollector, "whole traces");
    }

    /// <summary>Whether a plan needs the one collector for the whole cluster.</summary>
    public static bool NeedsStateCollector(CollectionPlan plan) => plan.Metrics is { ClusterState: true } || plan.Logs is { Events: true };

    /// <summary>How the cluster replaces agents: one at a time, each when the one before is ready, or not by itself.</summary>
    public static JsonObject UpdateStrategy(bool held) => held
        ? new JsonObject { ["type"] = "OnDelete" }
        : new JsonObject { ["type"] = "RollingUpdate", ["rollingUpdate"] = new JsonObject { ["maxUnavailable"] = 1 } };

    private static Manifest Object(string apiVersion, string kind, string? ns, string name, JsonObject rest)
    {
        var metadata = new JsonObject { ["name"] = name };
        if (ns is not null)
            metadata["namespace"] = ns;
        metadata["labels"] = new JsonObject { ["app.kubernetes.io/managed-by"] = "skevin" };
        var body = new JsonObject { ["apiVersion"] = apiVersion, ["kind"] = kind, ["metadata"] = metadata };
        foreach (var (key, value) in rest.ToArray())
        {
            rest.Remove(key);
            body[key] = value;
        }
        return new Manifest(apiVersion, kind, ns, name, body);
    }

    private static Manifest WithNeeds(Manifest role, IReadOnlyList<NeededRight> rights)
    {
        role.Body["metadata"]!["annotations"] = new JsonObject
        {
            [NeedsAnnotation] = string.Join("\n", rights.Select(right => $"{string.Join(", ", right.Resources)}: {right.Need}")),
        };
        return role;
    }

    private static JsonObject Selector(string name) =>
        new() { ["matchLabels"] = new JsonObject { ["app.kubernetes.io/name"] = name } };

    // Only the agents on the nodes reach files and ports of theirs.
    private static JsonObject Template(string name, string revision, string role, string image, CollectionPlan whole)
    {
        var plan = role == "node" ? whole : null;
        var logs = plan?.Logs is { Containers: true };
        var host = plan?.Metrics is { HostMetrics: true };
        var ports = new JsonArray(new JsonObject { ["name"] = "status", ["containerPort"] = StatusPort });
        if (role == "gather")
            ports.Add(new JsonObject { ["name"] = "otlp-http", ["containerPort"] = SpanPort });
        if (plan?.Traces is not null)
            ports.Add(new JsonObject { ["name"] = "otlp-http", ["containerPort"] = SpanPort, ["hostPort"] = SpanPort });
        if (plan?.Flows is not null)
            ports.Add(new JsonObject { ["name"] = "ipfix", ["containerPort"] = FlowPort, ["hostPort"] = FlowPort });
        if (plan?.Logs is { Syslog: true })
            foreach (var protocol in new[] { "UDP", "TCP" })
                ports.Add(new JsonObject { ["name"] = "syslog-" + protocol.ToLowerInvariant(), ["containerPort"] = SyslogPort, ["hostPort"] = SyslogNodePort, ["protocol"] = protocol });
        var mounts = new JsonArray(Mount("configuration", "/etc/skevin", true), Mount("token", "/etc/skevin-ingest", true), Mount("buffer", "/var/lib/skevin-agent", false));
        var volumes = new JsonArray(
            new JsonObject { ["name"] = "configuration", ["configMap"] = new JsonObject { ["name"] = ConfigurationOf(revision) } },
            new JsonObject { ["name"] = "token", ["secret"] = new JsonObject { ["secretName"] = TokenSecret } },
            // Without logs the buffer need only outlive the container: the agent sends what is left before its pod goes.
            logs ? HostPath("buffer", BufferOnNode, "DirectoryOrCreate") : new JsonObject { ["name"] = "buffer", ["emptyDir"] = new JsonObject { ["sizeLimit"] = "2Gi" } });
        foreach (var destination in whole.Destinations ?? [])
        {
            mounts.Add(Mount("to-" + destination.Name, $"{DestinationsFolder}/{destination.Name}", true));
            // Without it the agents send there without a header.
            volumes.Add(new JsonObject { ["name"] = "to-" + destination.Name, ["secret"] = new JsonObject { ["secretName"] = destination.Secret, ["optional"] = true } });
        }
        if (host)
        {
            mounts.Add(Mount("host", HostRoot, true, "HostToContainer"));
            volumes.Add(HostPath("host", "/", "Directory"));
        }
        else if (logs)
        {
            mounts.Add(Mount("logs", HostRoot + "/var/log/pods", true));
            volumes.Add(HostPath("logs", "/var/log/pods", "Directory"));
        }
        return new JsonObject
        {
            ["metadata"] = new JsonObject
            {
                ["labels"] = new JsonObject { ["app.kubernetes.io/name"] = name },
                ["annotations"] = new JsonObject { [RevisionAnnotation] = revision },
            },
            ["spec"] = new JsonObject
            {
                ["serviceAccountName"] = Agent,
                // Log files of containers belong to root and are closed to others; as their owner the agent needs no capability.
                ["securityContext"] = logs ? new JsonObject { ["runAsUser"] = 0 } : new JsonObject { ["runAsNonRoot"] = true, ["runAsUser"] = 65532 },
                ["containers"] = new JsonArray(new JsonObject
                {
                    ["name"] = "agent",
                    ["image"] = image,
                    ["args"] = Texts(["--role", role]),
                    ["env"] = new JsonArray(
                        Field("SKEVIN_NODE", "spec.nodeName"), Field("SKEVIN_POD", "metadata.name"), new JsonObject { ["name"] = "SKEVIN_HOST_ROOT", ["value"] = HostRoot }),
                    ["ports"] = ports,
                    ["securityContext"] = new JsonObject
                    {
                        ["allowPrivilegeEscalation"] = false, ["readOnlyRootFilesystem"] = true, ["capabilities"] = new JsonObject { ["drop"] = Texts(["ALL"]) },
                    },
                    ["resources"] = new JsonObject
                    {
                        ["requests"] = new JsonObject { ["cpu"] = "50m", ["memory"] = "64Mi" },
                        ["limits"] = new JsonObject { ["cpu"] = "500m", ["memory"] = "256Mi" },
                    },
                    ["readinessProbe"] = new JsonObject
                    {
                        ["httpGet"] = new JsonObject { ["path"] = "/status", ["port"] = "status" },
                    },
                    ["volumeMounts"] = mounts,
                }),
                ["volumes"] = volumes,
            },
        };
    }

    private static JsonObject HostPath(string name, string path, string type) =>
        new() { ["name"] = name, ["hostPath"] = new JsonObject { ["path"] = path, ["type"] = type } };

    private static JsonObject Field(string name, string path) => new()
    {
        ["name"] = name,
        ["valueFrom"] = new JsonObject { ["fieldRef"] = new JsonObject { ["fieldPath"] = path } },
    };

    private static JsonObject Mount(string name, string path, bool readOnly, string? propagation = null)
    {
        var mount = new JsonObject { ["name"] = name, ["mountPath"] = path, ["readOnly"] = readOnly };
        if (propagation is not null)
            mount["mountPropagation"] = propagation;
        return mount;
    }

    private static JsonArray Texts(IEnumerable<string> texts) => new([.. texts.Select(text => (JsonNode)JsonValue.Create(text)!)]);
}
