namespace Skevin.Core.Query.Language;

/// <summary>The words of the grammar.</summary>
public static class Words
{
    /// <summary>Functions across series.</summary>
    public static readonly IReadOnlyDictionary<string, Aggregate> Functions = new Dictionary<string, Aggregate>
    {
        ["count"] = Aggregate.Count,
        ["sum"] = Aggregate.Sum,
        ["mean"] = Aggregate.Mean,
        ["min"] = Aggregate.Min,
        ["max"] = Aggregate.Max,
    };

    /// <summary>First words of the steps that are answered.</summary>
    public static readonly string[] Steps = ["where", "rate", "rise", "highest", "lowest", .. Functions.Keys];

    /// <summary>First words of steps that belong to the language and are not answered yet.</summary>
    public static readonly string[] StepsToCome =
    [
        "change", "over", "gaps", "shift", "parse", "set", "show", "order", "first", "last", "kinds", "traces", "graph", "differ",
        "as", "distinct", "stddev",
    ];

    /// <summary>Sources that belong to the language and are not answered yet.</summary>
    public static readonly string[] SourcesToCome = ["logs", "spans", "flows", "events", "alarms", "arrivals"];

    /// <summary>Comparisons written as words.</summary>
    public static readonly string[] Comparisons = ["in", "like", "matches", "exists"];

    /// <summary>Comparisons that belong to the language and are not answered yet.</summary>
    public static readonly string[] ComparisonsToCome = ["says", "inside"];

    /// <summary>Words that cannot stand bare as a field's name in a predicate.</summary>
    public static readonly string[] InPredicates = ["not", "and", "or"];

    /// <summary>The candidate nearest to a word by edit distance, if it is near enough to be meant.</summary>
    public static string? Nearest(string word, IEnumerable<string> candidates) =>
        EditDistance.Nearest(word, candidates, 1).FirstOrDefault();
}
