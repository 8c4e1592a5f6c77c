using System.Globalization;
using System.Net;
using Skevin.Agent;
using Skevin.Core.Collection;

// Arguments: --role node|state|gather|machine. Everything else comes from the pod, see Manifests in the core library, or from the service, see MachineSetup.
var role = args is ["--role", var name] && Enum.TryParse<AgentRole>(name, true, out var parsed) ? parsed : AgentRole.Node;
string Setting(string variable, string fallback) => Environment.GetEnvironmentVariable(variable) is { Length: > 0 } value ? value : fallback;
int Number(string variable, int fallback) => int.Parse(Setting(variable, fallback.ToString(CultureInfo.InvariantCulture)), CultureInfo.InvariantCulture);
const string Account = "/var/run/secrets/kubernetes.io/serviceaccount";
var environment = new AgentEnvironment(
    role,
    Setting("SKEVIN_NODE", Environment.MachineName),
    Setting("SKEVIN_POD", Environment.MachineName),
    Setting("SKEVIN_CONFIGURATION", role == AgentRole.Machine ? Path.Combine(Setting("SKEVIN_BUFFER", Manifests.BufferOnNode), "agent.json") : "/etc/skevin/agent.json"),
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
    Server = role == AgentRole.Machine ? new Uri(Setting("SKEVIN_SERVER", "http://127.0.0.1:5180").TrimEnd('/') + "/") : null,
};
await using var agent = new CollectingAgent(environment);
await using var app = AgentHost.Build(agent, $"http://{environment.Listen}:{Number("SKEVIN_STATUS_PORT", Manifests.StatusPort)}",
    role != AgentRole.State ? $"http://{environment.Listen}:{environment.SpanPort}" : null);
await app.StartAsync();
Console.WriteLine($"skevin agent, {role.ToString().ToLowerInvariant()}, on {environment.NodeName}");
// A service has no status anybody looks at; what keeps it from its work stands in its log.
var said = "";
using var watch = new Timer(_ => Say(), null, TimeSpan.FromSeconds(5), TimeSpan.FromSeconds(5));
void Say()
{
    var status = agent.Status;
    var trouble = status.ConfigurationError ?? (status.LastPush is { NextTry: not null } push ? $"pushes are not taken: {push.Status} {push.Text}" : "");
    if (Interlocked.Exchange(ref said, trouble) != trouble)
        Console.WriteLine(trouble.Length > 0 ? trouble : "works");
}
await agent.Run(app.Lifetime.ApplicationStopping);
await app.WaitForShutdownAsync();
