namespace Skevin.Core.Access;

/// <summary>What a person may do, by task. A person may hold several.</summary>
[Flags]
public enum Roles
{
    /// <summary>Nothing.</summary>
    None = 0,

    /// <summary>See clusters, arrivals, enquiries, sheets and alarms.</summary>
    Reader = 1,

    /// <summary>Acknowledge and shelve alarms.</summary>
    Responder = 2,

    /// <summary>Write enquiries, sheets and alert rules.</summary>
    Author = 4,

    /// <summary>Connect clusters, change and roll out plans.</summary>
    Installer = 8,

    /// <summary>People, tokens, retention.</summary>
    Keeper = 16,

    /// <summary>Every task.</summary>
    All = Reader | Responder | Author | Installer | Keeper,
}

/// <summary>What a reader may see. Every read of stored data demands one.</summary>
/// <param name="Clusters">Names of clusters, or null for all.</param>
/// <param name="Namespaces">Names of namespaces, or null for whole clusters.</param>
public sealed record AccessScope(IReadOnlySet<string>? Clusters, IReadOnlySet<string>? Namespaces)
{
    /// <summary>Everything: for the server's own work and for keepers of the whole.</summary>
    public static AccessScope Everything { get; } = new(null, null);

    /// <summary>Whether anything of this cluster may be seen.</summary>
    public bool Sees(string cluster) => Clusters is null || Clusters.Contains(cluster);

    /// <summary>Whether data of this namespace may be seen; data without one is for readers of the whole cluster.</summary>
    public bool Sees(string cluster, string? ns) =>
        Sees(cluster) && (Namespaces is null || (ns is not null && Namespaces.Contains(ns)));
}
