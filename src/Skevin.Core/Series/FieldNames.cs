namespace Skevin.Core.Series;

/// <summary>Short names for the attributes asked for most, beside the names of the semantic conventions.</summary>
public static class FieldNames
{
    /// <summary>Attributes that name a workload, the first present one counts.</summary>
    public static readonly string[] Workload =
    [
        "k8s.deployment.name", "k8s.statefulset.name", "k8s.daemonset.name", "k8s.job.name", "k8s.cronjob.name",
    ];

    /// <summary>Short name → attribute.</summary>
    public static readonly IReadOnlyDictionary<string, string> Short = new Dictionary<string, string>
    {
        ["cluster"] = "k8s.cluster.name",
        ["node"] = "k8s.node.name",
        ["namespace"] = "k8s.namespace.name",
        ["container"] = "k8s.container.name",
        ["pod"] = "k8s.pod.name",
        ["service"] = "service.name",
    };

    /// <summary>The value a field has in a set of attributes, or null.</summary>
    public static string? Value(Labels labels, string field)
    {
        if (labels[field] is { } direct)
            return direct;
        if (field == "workload")
        {
            foreach (var name in Workload)
                if (labels[name] is { } workload)
                    return workload;
            return null;
        }
        return Short.TryGetValue(field, out var full) ? labels[full] : null;
    }

    private static readonly Dictionary<string, string> Shortened =
        Short.ToDictionary(pair => pair.Value, pair => pair.Key).Concat(Workload.Select(name => new KeyValuePair<string, string>(name, "workload"))).ToDictionary();

    /// <summary>The shortest name for an attribute: what a person would type.</summary>
    public static string Shortest(string attribute) => Shortened.GetValueOrDefault(attribute, attribute);
}
