using Skevin.Core.Query.Run;

namespace Skevin.Core.Query.Language;

/// <summary>The words of the grammar.</summary>
public static class Words
{
    /// <summary>Functions by name; quantiles come beside them as p50, p99.9 and so on.</summary>
    public static readonly IReadOnlyDictionary<string, FunctionKind> Functions = new Dictionary<string, FunctionKind>
    {
        ["count"] = FunctionKind.Count,
        ["sum"] = FunctionKind.Sum,
        ["mean"] = FunctionKind.Mean,
        ["min"] = FunctionKind.Min,
        ["max"] = FunctionKind.Max,
        ["distinct"] = FunctionKind.Distinct,
        ["stddev"] = FunctionKind.StandardDeviation,
        ["first"] = FunctionKind.First,
        ["last"] = FunctionKind.Last,
    };

    /// <summary>How a function other than a quantile is written.</summary>
    public static string NameOf(FunctionKind kind) => Functions.First(pair => pair.Value == kind).Key;

    /// <summary>First words of the steps.</summary>
    public static readonly string[] Steps =
    [
        "where", "rate", "rise", "change", "over", "highest", "lowest", .. Functions.Keys, "p50", "p95", "p99", "gaps", "shift", "parse", "set", "show", "order",
        "traces", "graph", "kinds", "differ", "as",
    ];

    /// <summary>Sources of rows.</summary>
    public static readonly IReadOnlyDictionary<string, RowKind> RowSources = new Dictionary<string, RowKind>
    {
        ["logs"] = RowKind.Logs,
        ["spans"] = RowKind.Spans,
        ["flows"] = RowKind.Flows,
        ["events"] = RowKind.Events,
        ["alarms"] = RowKind.Alarms,
    };

    /// <summary>The source of series that tell what arrived.</summary>
    public const string Arrivals = "arrivals";

    /// <summary>Comparisons written as words.</summary>
    public static readonly string[] Comparisons = ["in", "like", "matches", "says", "inside", "exists"];

    /// <summary>The function a word names, or null.</summary>
    public static Function? FunctionOf(string word)
    {
        if (Functions.TryGetValue(word, out var kind))
            return new Function(kind);
        return word.Length > 1 && word[0] == 'p' && char.IsAsciiDigit(word[1])
            && double.TryParse(word.AsSpan(1), System.Globalization.NumberStyles.AllowDecimalPoint, System.Globalization.CultureInfo.InvariantCulture, out var percent) && percent is >= 0 and <= 100
            ? new Function(FunctionKind.Quantile, percent) : null;
    }

    /// <summary>Words that cannot stand bare as a field's name in a predicate.</summary>
    public static readonly string[] InPredicates = ["not", "and", "or"];

    /// <summary>The candidate nearest to a word by edit distance, if it is near enough to be meant.</summary>
    public static string? Nearest(string word, IEnumerable<string> candidates) =>
        EditDistance.Nearest(word, candidates, 1).FirstOrDefault();
}
