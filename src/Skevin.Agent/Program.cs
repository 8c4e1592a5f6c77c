using System.Globalization;
using System.Net;
using Skevin.Agent;
using Skevin.Core.Collection;

// Arguments: --role node|state. Everything else comes from the pod: see Manifests in the core library.
var role = args is ["--role", var name] && Enum.TryParse<AgentRole>(name, true, out var parsed) ? parsed : AgentRole.Node;
string Setting(string variable, string fallback) => Environment.GetEnvironmentVariable(variable) is { Length: > 0 } value ? value : fallback;
int Number(string variable, int fallback) => int.Parse(Setting(variable, fallback.ToString(CultureInfo.InvariantCulture)), CultureInfo.InvariantCulture);
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
    Setting("SKEVIN_BUFFER", Manifests.BufferOnNode),
    Setting("SKEVIN_HOST_ROOT", "/"),
    IPAddress.Parse(Setting("SKEVIN_LISTEN", "0.0.0.0")),
    Number("SKEVIN_OTLP_PORT", Manifests.SpanPort),
    Number("SKEVIN_IPFIX_PORT", Manifests.FlowPort),
    null,
    TimeProvider.System)
{
    SyslogPort = Number("SKEVIN_SYSLOG_PORT", Manifests.SyslogPort),
};
await using var agent = new CollectingAgent(environment);
await using var app = AgentHost.Build(agent, $"http://{environment.Listen}:{Number("SKEVIN_STATUS_PORT", Manifests.StatusPort)}",
    role != AgentRole.State ? $"http://{environment.Listen}:{environment.SpanPort}" : null);
await app.StartAsync();
Console.WriteLine($"skevin agent, {role.ToString().ToLowerInvariant()}, on {environment.NodeName}");
await agent.Run(app.Lifetime.ApplicationStopping);
await app.WaitForShutdownAsync();
