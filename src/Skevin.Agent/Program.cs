using System.Globalization;
using Skevin.Agent;
using Skevin.Core.Collection;

// Arguments: --role node|state. Everything else comes from the pod: see Manifests in the core library.
var role = args is ["--role", var name] && Enum.TryParse<AgentRole>(name, true, out var parsed) ? parsed : AgentRole.Node;
string Setting(string variable, string fallback) => Environment.GetEnvironmentVariable(variable) is { Length: > 0 } value ? value : fallback;
const string Account = "/var/run/secrets/kubernetes.io/serviceaccount";
var environment = new AgentEnvironment(
    role,
    Setting("SKEVIN_NODE", Environment.MachineName),
    Setting("SKEVIN_POD", Environment.MachineName),
    Setting("SKEVIN_CONFIGURATION", "/etc/skevin/agent.json"),
    Setting("SKEVIN_TOKEN_FILE", "/etc/skevin-ingest/token"),
    Setting("SKEVIN_ACCOUNT_TOKEN_FILE", Account + "/token"),
    Account + "/ca.crt",
    new Uri(Setting("SKEVIN_CLUSTER_API",
        $"https://{Setting("KUBERNETES_SERVICE_HOST", "kubernetes.default.svc")}:{Setting("KUBERNETES_SERVICE_PORT", "443")}")),
    Setting("SKEVIN_BUFFER", "/var/lib/skevin-agent"),
    null,
    TimeProvider.System);
using var agent = new CollectingAgent(environment);
var port = Setting("SKEVIN_STATUS_PORT", Manifests.StatusPort.ToString(CultureInfo.InvariantCulture));
await using var app = AgentHost.Build(agent, "http://0.0.0.0:" + port);
await app.StartAsync();
Console.WriteLine($"skevin agent, {role.ToString().ToLowerInvariant()}, on {environment.NodeName}");
await agent.Run(app.Lifetime.ApplicationStopping);
await app.WaitForShutdownAsync();
