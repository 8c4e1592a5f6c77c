using System.Collections.Concurrent;

namespace Skevin.StandIn.Model;

/// <summary>Switches of the practice cluster.</summary>
public sealed class Faults
{
    /// <summary>Ten times the requests.</summary>
    public const string Burst = "burst";

    /// <summary>The bank outside answers slowly.</summary>
    public const string SlowBank = "slow-bank";

    /// <summary>The ledger loses memory sixty times as fast.</summary>
    public const string Leak = "memory-leak";

    /// <summary>The agents' role loses the right to read node stats.</summary>
    public const string RoleMissing = "role-missing";

    /// <summary>The secret with the ingest token is overwritten.</summary>
    public const string TokenAltered = "token-altered";

    /// <summary>A traffic policy denies door-watch the way to the queue.</summary>
    public const string PolicyDenies = "policy-denies";

    /// <summary>price-feed serves its metrics under another path.</summary>
    public const string WrongPath = "wrong-path";

    /// <summary>settle listens for scrapes on another port than its pods name.</summary>
    public const string WrongPort = "wrong-port";

    /// <summary>lot-registry writes a line into its metrics that is none.</summary>
    public const string Malformed = "malformed-exposition";

    /// <summary>A node is lost with all that runs on it.</summary>
    public const string NodeLost = "node-lost";

    /// <summary>The agents' daemon set names an image that is not there.</summary>
    public const string ImageMissing = "agent-image-missing";

    /// <summary>Most names cannot be resolved.</summary>
    public const string NamesFail = "name-service-fails";

    /// <summary>price-feed puts the session's id on a metric.</summary>
    public const string LabelExplosion = "label-explosion";

    /// <summary>door-watch writes every state of every door, many times a second.</summary>
    public const string LogFlood = "log-flood";

    /// <summary>The clock of a node is behind.</summary>
    public const string ClockBehind = "clock-behind";

    /// <summary>A policy of the cluster forbids the agents' image.</summary>
    public const string ImagePolicy = "image-policy-forbids";

    /// <summary>The agents' memory limit is far too low.</summary>
    public const string AgentMemory = "agent-killed-for-memory";

    /// <summary>The agents are given another configuration object.</summary>
    public const string OtherConfiguration = "configuration-not-in-use";

    /// <summary>A service's selector matches no pod.</summary>
    public const string SelectorMatchesNothing = "selector-matches-nothing";

    /// <summary>The workload whose service it is.</summary>
    public const string Mistyped = "intake/lot-registry";

    /// <summary>A claim for storage names a class that is not there.</summary>
    public const string StorageClassMissing = "storage-class-missing";

    /// <summary>The cluster's network is gone.</summary>
    public const string NoNetwork = "no-network";

    /// <summary>A node has lost its IPv6 address.</summary>
    public const string V6Missing = "ipv6-missing";

    /// <summary>The disk of a node is full.</summary>
    public const string DiskFull = "disk-full";

    /// <summary>A roll-out of the agents was left half way.</summary>
    public const string TwoRevisions = "two-revisions";

    /// <summary>door-watch writes more than the runtime keeps.</summary>
    public const string RotationLoss = "rotation-loss";

    /// <summary>The certificate of the entry point has expired.</summary>
    public const string CertificateExpired = "certificate-expired";

    /// <summary>A machine that was ordered does not answer.</summary>
    public const string MachineSilent = "machine-silent";

    private readonly ConcurrentDictionary<string, bool> _on = new();

    /// <summary>All faults, in words.</summary>
    public static readonly (string Name, string Title)[] All =
    [
        (Burst, "Ten times as many requests as usual"),
        (SlowBank, "The bank outside answers in 4 to 5 s"),
        (Leak, "The ledger leaks memory until it is killed"),
        (PolicyDenies, "A traffic policy denies door-watch the way to the queue"),
        (RoleMissing, "The agents' role loses the right to read node stats"),
        (TokenAltered, "Somebody overwrites the secret with the ingest token"),
        (WrongPath, "price-feed serves its metrics under another path"),
        (WrongPort, "settle listens for scrapes on another port than its pods name"),
        (Malformed, "lot-registry writes a line into its metrics that is none"),
        (NodeLost, "Node 4 is lost with all that runs on it"),
        (ImageMissing, "The agents' daemon set names an image that is not there"),
        (NamesFail, "The name service does not answer most of the time"),
        (SelectorMatchesNothing, "The selector of service lot-registry is mistyped"),
        (StorageClassMissing, "lot-cache is started anew with a storage class that is not there"),
        (LabelExplosion, "price-feed puts the id of each session on a metric"),
        (LogFlood, "door-watch floods its log"),
        (ClockBehind, "The clock of node 2 is 40 s behind"),
        (ImagePolicy, "A policy of the cluster forbids the agents' image, and they are rolled out anew"),
        (AgentMemory, "Somebody sets the agents' memory limit to 16 MiB"),
        (OtherConfiguration, "Somebody gives the agents an older configuration object"),
        (RotationLoss, "door-watch floods its log, and the runtime keeps a second of it"),
        (TwoRevisions, "Somebody rolls out an older plan by hand and stops after one node"),
        (NoNetwork, "The network of the cluster is taken away, and the agents are rolled out anew"),
        (DiskFull, "The disk of node 2 is full"),
        (CertificateExpired, "The certificate at the auction gate expired yesterday"),
        (V6Missing, "Node 3 loses its IPv6 address"),
        (MachineSilent, "The last machine of the next cluster that is ordered does not answer"),
    ];

    /// <summary>Whether a fault of the load model is on.</summary>
    public bool IsOn(string name) => _on.GetValueOrDefault(name);

    /// <summary>Switches a fault of the load model.</summary>
    public void Set(string name, bool on) => _on[name] = on;
}
