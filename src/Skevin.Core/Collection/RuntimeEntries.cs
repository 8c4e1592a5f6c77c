using Skevin.Core.Formats.OpenMetrics;

namespace Skevin.Core.Collection;

/// <summary>What a line of a container runtime's text page is about.</summary>
public enum RuntimeEntry
{
    /// <summary>A container.</summary>
    Container,

    /// <summary>The container that only holds a pod's addresses and does nothing.</summary>
    Idle,

    /// <summary>A whole pod: its containers and the idle one together.</summary>
    Pod,

    /// <summary>Something of the node that belongs to no pod.</summary>
    Node,
}

/// <summary>
/// Tells apart what a runtime's page says of containers, idle containers and whole pods under the same names: added up together they
/// count everything twice. The page names pods by the labels <c>namespace</c>, <c>pod</c> and <c>container</c>; the idle container is
/// called <c>POD</c>, or has an image and no name (common practice of runtimes, no source).
/// </summary>
public static class RuntimeEntries
{
    /// <summary>Label that says what an entry is about: <c>container</c>, <c>idle</c>, <c>pod</c> or <c>node</c>.</summary>
    public const string Label = "skevin.runtime.entry";

    // Ids and paths change with every start of a container, so they would begin a new series each time.
    private static readonly HashSet<string> Passing = ["id", "name", "image", "container_id", "uid"];

    private static readonly Dictionary<string, string> Names = new() { ["namespace"] = "k8s.namespace.name", ["pod"] = "k8s.pod.name", ["container"] = "k8s.container.name" };

    /// <summary>What a line with these labels is about.</summary>
    public static RuntimeEntry Of(IReadOnlyList<KeyValuePair<string, string>> labels)
    {
        string Value(string name) => labels.FirstOrDefault(label => label.Key == name).Value ?? "";
        return (Value("pod"), Value("container")) switch
        {
            ("", _) => RuntimeEntry.Node,
            (_, "POD") => RuntimeEntry.Idle,
            (_, "") => Value("image").Length > 0 || Value("name").Length > 0 ? RuntimeEntry.Idle : RuntimeEntry.Pod,
            _ => RuntimeEntry.Container,
        };
    }

    /// <summary>The page with the labels of the semantic conventions, and each entry marked. Of entries that then are the same, a container that has ended and its successor, the last holds.</summary>
    public static OpenMetricsReading Told(OpenMetricsReading page) => page with
    {
        Families =
        [
            .. page.Families.Select(family => family with
            {
                Samples = [.. family.Samples.Select(sample => sample with { Labels = Told(sample.Labels) }).GroupBy(sample => (sample.Suffix, string.Join('\0', sample.Labels.Select(label => label.Key + "=" + label.Value)))).Select(same => same.Last())],
            }),
        ],
    };

    private static KeyValuePair<string, string>[] Told(IReadOnlyList<KeyValuePair<string, string>> labels)
    {
        var entry = Of(labels);
        return
        [
            .. labels.Where(label => !Passing.Contains(label.Key) && !(Names.ContainsKey(label.Key) && (label.Value.Length == 0 || (label.Key == "container" && entry != RuntimeEntry.Container))))
                .Select(label => new KeyValuePair<string, string>(Names.GetValueOrDefault(label.Key, label.Key), label.Value)),
            new(Label, entry.ToString().ToLowerInvariant()),
        ];
    }
}
