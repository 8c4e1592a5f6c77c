using System.Net;
using System.Net.Sockets;
using Skevin.Core.Collection;

namespace Skevin.Agent;

/// <summary>What an agent collects.</summary>
public enum AgentRole
{
    /// <summary>Usage, endpoints, logs, spans and flows of one node.</summary>
    Node,

    /// <summary>State and events of the whole cluster.</summary>
    State,

    /// <summary>Traces of the whole cluster, held until they are whole and then judged.</summary>
    Gather,

    /// <summary>Kernel, files and endpoints of a machine outside of clusters, where it runs as a service.</summary>
    Machine,
}

/// <summary>Opens a connection to a pod's address. The stand-in maps it to a port of its own.</summary>
public delegate ValueTask<Stream> Dial(string host, int port, CancellationToken stop);

/// <summary>Looks a name up in one address family. Empty where it has no address in it.</summary>
/// <exception cref="System.Net.Sockets.SocketException">The name service does not answer, or knows no such name.</exception>
public delegate Task<IReadOnlyList<IPAddress>> Resolve(string name, AddressFamily family, CancellationToken stop);

/// <summary>Everything the agent takes from its surroundings. These are its only seams.</summary>
/// <param name="Role">What it collects.</param>
/// <param name="NodeName">Node it runs on.</param>
/// <param name="PodName">Its own pod.</param>
/// <param name="ConfigurationFile">The plan, from the configuration object.</param>
/// <param name="TokenFile">The ingest token, from the secret; read again before every push.</param>
/// <param name="AccountTokenFile">Token of the service account.</param>
/// <param name="CertificateFile">Authority of the cluster API, null for plain HTTP.</param>
/// <param name="ClusterApi">Address of the cluster API.</param>
/// <param name="BufferFolder">Where batches are kept until they are accepted, and read marks.</param>
/// <param name="HostRoot">Where the node's own files stand: <c>proc</c>, <c>sys</c>, <c>var/log/pods</c>.</param>
/// <param name="Listen">Address on which spans and flows are taken.</param>
/// <param name="SpanPort">Port for spans; 0 takes any.</param>
/// <param name="FlowPort">Port for flows; 0 takes any.</param>
/// <param name="Dial">How to reach pods; null for the network as it is.</param>
/// <param name="Clock">The clock.</param>
public sealed record AgentEnvironment(
    AgentRole Role, string NodeName, string PodName, string ConfigurationFile, string TokenFile, string AccountTokenFile,
    string? CertificateFile, Uri ClusterApi, string BufferFolder, string HostRoot, IPAddress Listen, int SpanPort, int FlowPort, Dial? Dial, TimeProvider Clock)
{
    /// <summary>The server that gives a machine's agent its plan; null where the plan stands in a file of the cluster.</summary>
    public Uri? Server { get; init; }

    /// <summary>Attributes of the place it runs on.</summary>
    public List<KeyValuePair<string, string>> Place => Role == AgentRole.Machine ? [new("host.name", NodeName)] : Collection.PodAttributes.Node(NodeName);

    /// <summary>What it is itself.</summary>
    public List<KeyValuePair<string, string>> Self => [.. Role == AgentRole.Machine ? Place : [new("k8s.namespace.name", Manifests.Namespace), new("k8s.pod.name", PodName), .. Place], new("service.name", "skevin-agent")];

    /// <summary>How names are looked up; null for the network as it is.</summary>
    public Resolve? Resolve { get; init; }

    /// <summary>Port for syslog, UDP and TCP; 0 takes any.</summary>
    public int SyslogPort { get; init; } = Manifests.SyslogPort;

    /// <summary>Where the headers of further destinations lie, a folder each with a file <c>authorization</c>.</summary>
    public string DestinationsFolder { get; init; } = Manifests.DestinationsFolder;

    /// <summary>Bytes free where the buffer lies; null for what the system says.</summary>
    public Func<long>? FreeBytes { get; init; }
}
