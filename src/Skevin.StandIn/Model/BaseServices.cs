using System.Text.Json.Nodes;
using Skevin.StandIn.Api;

namespace Skevin.StandIn.Model;

/// <summary>What a new cluster is given before anything runs in it.</summary>
public static class BaseServices
{
    /// <summary>Namespace they are in.</summary>
    public const string Namespace = "platform";

    private const string Component = "app.kubernetes.io/component";
    private const string Network = "network";

    /// <summary>Services that can be ordered, in words.</summary>
    public static readonly (string Name, string Title)[] Offered = [("entry", "Entry point for traffic from outside"), ("storage", "Storage class for claims"), ("usage", "Resource metrics")];

    /// <summary>Whether a pod gives its node a network.</summary>
    public static bool IsNetwork(SimPod pod) => pod.Template["metadata"]?["labels"]?[Component]?.GetValue<string>() == Network;

    /// <summary>The namespace.</summary>
    public static (ObjectKey Key, JsonObject Body) NamespaceObject => (new("", "namespaces", "", Namespace), new JsonObject
    {
        ["apiVersion"] = "v1", ["kind"] = "Namespace", ["metadata"] = new JsonObject(), ["status"] = new JsonObject { ["phase"] = "Active" },
    });

    /// <summary>The network: an agent of its own on every node.</summary>
    public static (ObjectKey Key, JsonObject Body) NetworkAgents => Controller("daemonsets", "DaemonSet", "pod-network", 0, new JsonObject { ["hostNetwork"] = true }, Network);

    /// <summary>The name service, which every cluster has.</summary>
    public static IEnumerable<(ObjectKey Key, JsonObject Body)> NameService
    {
        get
        {
            yield return Controller("deployments", "Deployment", "name-service", 2, [], "name-service", 53);
            yield return (new("", "services", Namespace, "name-service"), new JsonObject
            {
                ["apiVersion"] = "v1", ["kind"] = "Service", ["metadata"] = new JsonObject(),
                ["spec"] = new JsonObject
                {
                    ["type"] = "ClusterIP", ["selector"] = new JsonObject { [ScenarioObjects.Name] = "name-service" },
                    ["ports"] = new JsonArray(new JsonObject { ["name"] = "dns", ["port"] = 53, ["targetPort"] = "dns", ["protocol"] = "UDP" }),
                },
            });
        }
    }

    /// <summary>An ordered service.</summary>
    public static IEnumerable<(ObjectKey Key, JsonObject Body)> Of(string service) => service switch
    {
        "entry" => [Controller("deployments", "Deployment", "gate", 2, [], "entry", 8443)],
        "storage" => [(new("storage.k8s.io", "storageclasses", "", "plain"), ScenarioObjects.Class("storage.larkfield.example/plain", true, "Delete"))],
        "usage" => [Controller("deployments", "Deployment", "usage-metrics", 1, [], "usage", 4443)],
        _ => [],
    };

    private static (ObjectKey Key, JsonObject Body) Controller(string plural, string kind, string name, int replicas, JsonObject pod, string component, int port = 0)
    {
        var labels = new JsonObject { [ScenarioObjects.Name] = name, [Component] = component };
        var container = new JsonObject
        {
            ["name"] = name, ["image"] = $"larkfield/{name}:1.4.0",
            ["resources"] = new JsonObject { ["requests"] = new JsonObject { ["cpu"] = "100m", ["memory"] = "64Mi" }, ["limits"] = new JsonObject { ["cpu"] = "500m", ["memory"] = "128Mi" } },
        };
        if (port > 0)
            container["ports"] = new JsonArray(new JsonObject { ["name"] = port == 53 ? "dns" : "https", ["containerPort"] = port, ["protocol"] = port == 53 ? "UDP" : "TCP" });
        pod["containers"] = new JsonArray(container);
        var spec = new JsonObject
        {
            ["selector"] = new JsonObject { ["matchLabels"] = new JsonObject { [ScenarioObjects.Name] = name } },
            ["template"] = new JsonObject { ["metadata"] = new JsonObject { ["labels"] = labels }, ["spec"] = pod },
        };
        if (replicas > 0)
            spec["replicas"] = replicas;
        return (new("apps", plural, Namespace, name), new JsonObject { ["apiVersion"] = "apps/v1", ["kind"] = kind, ["metadata"] = new JsonObject { ["generation"] = 1 }, ["spec"] = spec });
    }
}
