using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Alarms;

/// <summary>What an alarm did, as a row an enquiry can ask for.</summary>
/// <param name="Cluster">The rule's cluster.</param>
/// <param name="Milliseconds">End of the slot that decided it, epoch milliseconds.</param>
/// <param name="Rule">Name of the rule.</param>
/// <param name="Change">What happened.</param>
/// <param name="Severity">How bad it is.</param>
/// <param name="Value">The value that decided it, in the rule's unit; NaN where there was none.</param>
/// <param name="Unit">UCUM unit of the value.</param>
/// <param name="Labels">Of the series.</param>
public sealed record AlarmChange(string Cluster, long Milliseconds, string Rule, AlarmTransition Change, Severity Severity, double Value, string Unit, Labels Labels) : IRow
{
    /// <summary>The namespace its series is of, or null.</summary>
    public string? Namespace => Labels["namespace"] ?? Labels["k8s.namespace.name"];

    /// <inheritdoc/>
    public double Weight => 1;

    /// <inheritdoc/>
    public IEnumerable<string> Fields => Labels.Select(pair => pair.Key).Append("cluster");

    /// <inheritdoc/>
    public FieldValue this[string field] => field switch
    {
        "time" => FieldValue.Of((double)Milliseconds),
        "rule" => FieldValue.Of(Rule),
        "change" => FieldValue.Of(Change.ToString().ToLowerInvariant()),
        "severity" => FieldValue.Of(Severity.ToString().ToLowerInvariant()),
        "value" => FieldValue.Of(Value),
        "unit" => FieldValue.Of(Unit),
        "labels" => FieldValue.Of(Labels.ToString()),
        "cluster" or "k8s.cluster.name" => FieldValue.Of(Cluster),
        _ => FieldValue.Of(Labels[field] ?? FieldNames.Value(Labels, field)),
    };
}
