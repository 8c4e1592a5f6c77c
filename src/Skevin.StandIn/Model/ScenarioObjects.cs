using System.Globalization;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json.Nodes;
using Skevin.StandIn.Api;

namespace Skevin.StandIn.Model;

/// <summary>What the demo's clusters hold beside nodes, workloads and pods: services, an entry point, configuration objects, storage. All invented.</summary>
public static class ScenarioObjects
{
    /// <summary>Configuration objects: namespace, name, entry, text, and the workload that is given it.</summary>
    public static readonly (string Namespace, string Name, string Entry, string Text, string Workload)[] Configurations =
    [
        ("auction", "opening-hours", "hours.yaml", "opening: \"06:00\"\nsmaller:\n  every: 2h\nclock:\n  falls: 0.02 per second\n  floor: 0.40\n", "clock"),
        ("auction", "bid-limits", "limits.yaml", "bids:\n  perBuyer: 20 per second\n  highest: 5000 crates\n", "bid-gateway"),
        ("coldstore", "room-bounds", "rooms.yaml", "rooms:\n  pears: {least: -1.0, most: 0.5}\n  apples: {least: 0.5, most: 2.0}\n", "room-sensors"),
        ("payout", "bank-terms", "terms.yaml", "bank:\n  patience: 3s\n  retries: 0\n", "settle"),
    ];

    /// <summary>Workloads that keep something, with the size they ask for.</summary>
    public static readonly (string Workload, string Size)[] Stores = [("auction/lot-cache", "8Gi"), ("platform/queue", "20Gi")];

    /// <summary>Label by which services and workloads find their pods.</summary>
    public const string Name = "app.kubernetes.io/name";

    /// <summary>The service of a workload.</summary>
    public static ObjectKey ServiceOf(string workload) => new("", "services", workload.Split('/')[0], workload.Split('/')[1]);

    /// <summary>The claim of a pod of a workload that keeps something.</summary>
    public static ObjectKey ClaimOf(string workload, int number) => new("", "persistentvolumeclaims", workload.Split('/')[0], $"data-{workload.Split('/')[1]}-{number}");

    /// <summary>Secret with the entry point's certificate.</summary>
    public static readonly ObjectKey Certificate = new("", "secrets", "edge", "auction-gate-tls");

    private const string Host = "bids.larkfield.example";

    /// <summary>A certificate for the entry point, ending at a time, as a secret holds it.</summary>
    public static string CertificateUntil(DateTimeOffset until)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest("CN=" + Host, key, HashAlgorithmName.SHA256);
        var names = new SubjectAlternativeNameBuilder();
        names.AddDnsName(Host);
        request.CertificateExtensions.Add(names.Build());
        using var certificate = request.CreateSelfSigned(until.AddDays(-90), until);
        return Convert.ToBase64String(System.Text.Encoding.ASCII.GetBytes(certificate.ExportCertificatePem()));
    }

    /// <summary>Everything.</summary>
    /// <param name="number">The cluster's number, for its addresses.</param>
    public static IEnumerable<(ObjectKey Key, JsonObject Body)> All(int number)
    {
        foreach (var (i, workload) in Scenario.Workloads.Index())
            yield return (ServiceOf(workload.Id), Service(workload, number, i));
        yield return (new("networking.k8s.io", "ingresses", "edge", "auction-gate"), new JsonObject
        {
            ["apiVersion"] = "networking.k8s.io/v1", ["kind"] = "Ingress", ["metadata"] = new JsonObject(),
            ["spec"] = new JsonObject
            {
                ["ingressClassName"] = "gate",
                ["tls"] = new JsonArray(new JsonObject { ["hosts"] = new JsonArray(Host), ["secretName"] = Certificate.Name }),
                ["rules"] = new JsonArray(new JsonObject
                {
                    ["host"] = Host,
                    ["http"] = new JsonObject { ["paths"] = new JsonArray(new JsonObject { ["path"] = "/", ["pathType"] = "Prefix", ["backend"] = new JsonObject { ["service"] = new JsonObject { ["name"] = "gatehouse", ["port"] = new JsonObject { ["number"] = 8443 } } } }) },
                }),
            },
            ["status"] = new JsonObject { ["loadBalancer"] = new JsonObject { ["ingress"] = new JsonArray(new JsonObject { ["ip"] = $"203.0.113.{200 + number}" }) } },
        });
        yield return (Certificate, new JsonObject { ["apiVersion"] = "v1", ["kind"] = "Secret", ["metadata"] = new JsonObject(), ["type"] = "kubernetes.io/tls", ["data"] = new JsonObject { ["tls.crt"] = CertificateUntil(DateTimeOffset.UtcNow.AddDays(80)) } });
        foreach (var (ns, name, entry, text, _) in Configurations)
            yield return (new("", "configmaps", ns, name), new JsonObject { ["apiVersion"] = "v1", ["kind"] = "ConfigMap", ["metadata"] = new JsonObject(), ["data"] = new JsonObject { [entry] = text } });
        yield return (new("storage.k8s.io", "storageclasses", "", "plain"), Class("storage.larkfield.example/plain", true, "Delete"));
        yield return (new("storage.k8s.io", "storageclasses", "", "fast"), Class("storage.larkfield.example/fast", false, "Retain"));
        foreach (var (workload, size) in Stores)
            for (var i = 0; i < Scenario.ById[workload].Replicas; i++)
                yield return (ClaimOf(workload, i), new JsonObject
                {
                    ["apiVersion"] = "v1", ["kind"] = "PersistentVolumeClaim", ["metadata"] = new JsonObject(),
                    ["spec"] = new JsonObject { ["storageClassName"] = "fast", ["accessModes"] = new JsonArray("ReadWriteOnce"), ["resources"] = new JsonObject { ["requests"] = new JsonObject { ["storage"] = size } } },
                    ["status"] = new JsonObject { ["phase"] = "Bound" },
                });
    }

    /// <summary>The controller of a workload's pods.</summary>
    public static JsonObject Workload(ScenarioWorkload workload, string born)
    {
        string Cpu(double cores) => $"{cores * 1000:0}m";
        string Memory(double mib) => $"{mib:0}Mi";
        var container = new JsonObject
        {
            ["name"] = workload.Name,
            ["image"] = $"larkfield/{workload.Name}:3.2.1",
            ["resources"] = new JsonObject
            {
                ["requests"] = new JsonObject { ["cpu"] = Cpu(workload.Request.Cores), ["memory"] = Memory(workload.Request.Mib) },
                ["limits"] = new JsonObject { ["cpu"] = Cpu(workload.Limit.Cores), ["memory"] = Memory(workload.Limit.Mib) },
            },
        };
        var ports = new JsonArray(new JsonObject { ["name"] = workload.Port == 53 ? "dns" : "http", ["containerPort"] = workload.Port, ["protocol"] = workload.Port == 53 ? "UDP" : "TCP" });
        if (workload.Metrics > 0)
            ports.Add(new JsonObject { ["name"] = "metrics", ["containerPort"] = workload.Metrics });
        container["ports"] = ports;
        // Source: OpenTelemetry specification, "OTLP exporter configuration"; spans go to the agent on the pod's node.
        if (workload.Traced)
            container["env"] = new JsonArray(
                new JsonObject { ["name"] = "HOST_IP", ["valueFrom"] = new JsonObject { ["fieldRef"] = new JsonObject { ["fieldPath"] = "status.hostIP" } } },
                new JsonObject { ["name"] = "OTEL_SERVICE_NAME", ["value"] = workload.Name },
                new JsonObject { ["name"] = "OTEL_EXPORTER_OTLP_ENDPOINT", ["value"] = "http://$(HOST_IP):4318" });
        // Two things that were left open when time was short.
        if (workload.Name == "camera-sorter")
            container["securityContext"] = new JsonObject { ["privileged"] = true };
        if (workload.Name == "statements")
            container["env"]!.AsArray().Add(new JsonObject { ["name"] = "MAIL_PASSWORD", ["value"] = "windfall" });
        var labels = new JsonObject { [Name] = workload.Name };
        var spec = new JsonObject { ["containers"] = new JsonArray(container) };
        if (Configurations.FirstOrDefault(one => one.Namespace == workload.Namespace && one.Workload == workload.Name).Name is { } configuration)
        {
            spec["volumes"] = new JsonArray(new JsonObject { ["name"] = "configuration", ["configMap"] = new JsonObject { ["name"] = configuration } });
            container["volumeMounts"] = new JsonArray(new JsonObject { ["name"] = "configuration", ["mountPath"] = "/etc/" + workload.Name });
        }
        return new JsonObject
        {
            ["apiVersion"] = "apps/v1",
            ["kind"] = workload.Kind,
            ["metadata"] = new JsonObject { ["creationTimestamp"] = born, ["generation"] = 1, ["labels"] = labels.DeepClone() },
            ["spec"] = new JsonObject
            {
                ["replicas"] = workload.Replicas,
                ["selector"] = new JsonObject { ["matchLabels"] = labels.DeepClone() },
                ["template"] = new JsonObject
                {
                    ["metadata"] = new JsonObject { ["labels"] = labels },
                    ["spec"] = spec,
                },
            },
        };
    }

    private static JsonObject Service(ScenarioWorkload workload, int number, int index)
    {
        var ports = new JsonArray(new JsonObject { ["name"] = workload.Port == 53 ? "dns" : "http", ["port"] = workload.Port, ["targetPort"] = workload.Port == 53 ? "dns" : "http", ["protocol"] = workload.Port == 53 ? "UDP" : "TCP" });
        var addresses = workload.OnlyV6 ? new JsonArray($"2001:db8:{number:x}:f::{index + 1:x}") : new JsonArray($"192.0.2.{128 + (number - 1) * 32 + index}", $"2001:db8:{number:x}:f::{index + 1:x}");
        return new JsonObject
        {
            ["apiVersion"] = "v1", ["kind"] = "Service", ["metadata"] = new JsonObject(),
            ["spec"] = new JsonObject
            {
                ["type"] = "ClusterIP", ["clusterIP"] = addresses[0]!.DeepClone(), ["clusterIPs"] = addresses, ["ipFamilies"] = workload.OnlyV6 ? new JsonArray("IPv6") : new JsonArray("IPv4", "IPv6"),
                ["selector"] = new JsonObject { [Name] = workload.Name }, ["ports"] = ports,
            },
        };
    }

    /// <summary>A storage class.</summary>
    public static JsonObject Class(string provisioner, bool isDefault, string reclaim) => new()
    {
        ["apiVersion"] = "storage.k8s.io/v1", ["kind"] = "StorageClass",
        ["metadata"] = isDefault ? new JsonObject { ["annotations"] = new JsonObject { ["storageclass.kubernetes.io/is-default-class"] = "true" } } : new JsonObject(),
        ["provisioner"] = provisioner, ["reclaimPolicy"] = reclaim, ["allowVolumeExpansion"] = true,
    };
}
