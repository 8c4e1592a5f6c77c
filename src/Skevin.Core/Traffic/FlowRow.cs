using Skevin.Core.Query.Run;

namespace Skevin.Core.Traffic;

/// <summary>One end of a flow, as this reader may see it.</summary>
/// <param name="Name">Workload, node, a name the plan gives, or <c>outside</c>; <c>hidden</c> where the reader may not know.</param>
/// <param name="Address">Empty where it is hidden.</param>
public sealed record FlowEnd(string Name, string? Namespace, string? Pod, string Address)
{
    /// <summary>Name of an end that nothing in the cluster had.</summary>
    public const string Outside = "outside";

    /// <summary>An end in a namespace the reader may not see.</summary>
    public static FlowEnd Hidden { get; } = new("in a namespace you may not see", null, null, "");
}

/// <summary>The flows of a minute between two named ends.</summary>
public sealed record FlowRow(FlowMinute Minute, FlowEnd Source, FlowEnd Destination, string Cluster) : IRow
{
    /// <summary>The port a single flow came from; null for a minute's flows.</summary>
    public ushort? SourcePort { get; init; }

    /// <summary>How long a single flow took; null for a minute's flows.</summary>
    public double? Seconds { get; init; }

    /// <inheritdoc/>
    public long Milliseconds => Minute.Key.Minute;

    /// <inheritdoc/>
    public double Weight => Minute.Flows;

    /// <inheritdoc/>
    public FieldValue this[string field] => field switch
    {
        "time" => FieldValue.Of(Minute.Key.Minute),
        "source" => FieldValue.Of(Source.Name),
        "source.address" => Text(Source.Address),
        "source.port" => SourcePort is { } port ? FieldValue.Of(port) : FieldValue.Absent,
        "duration" => Seconds is { } seconds ? FieldValue.Of(seconds) : FieldValue.Absent,
        "source.namespace" => FieldValue.Of(Source.Namespace),
        "source.pod" => FieldValue.Of(Source.Pod),
        "destination" => FieldValue.Of(Destination.Name),
        "destination.address" => Text(Destination.Address),
        "destination.namespace" => FieldValue.Of(Destination.Namespace),
        "destination.pod" => FieldValue.Of(Destination.Pod),
        "destination.port" => FieldValue.Of(Minute.Key.Port),
        "protocol" => FieldValue.Of(FlowWords.Protocol(Minute.Key.Protocol)),
        "family" => FieldValue.Of(FlowWords.Family(Minute.Key.Source)),
        "flags" => Text(FlowWords.Flags(Minute.Flags)),
        "packets" => FieldValue.Of(Minute.Packets),
        "bytes" => FieldValue.Of(Minute.Bytes),
        "flows" => FieldValue.Of(Minute.Flows),
        "failed" => FieldValue.Of(Minute.Failed),
        "outcome" => FieldValue.Of(ForwardingStatus.Outcome(Minute.Key.Status)),
        "reason" => Text(ForwardingStatus.Reason(Minute.Key.Status)),
        "request" => Text($"{Minute.Key.Method} {Minute.Key.Path}".Trim()),
        "host" => Text(Minute.Key.Host),
        "node" or "k8s.node.name" => Text(Minute.Key.Node),
        "cluster" or "k8s.cluster.name" => FieldValue.Of(Cluster),
        // Without saying which end, a namespace or workload is meant that has part in it: the destination's, else the source's.
        "namespace" or "k8s.namespace.name" => FieldValue.Of(Destination.Namespace ?? Source.Namespace),
        "workload" => FieldValue.Of(Destination.Namespace is null ? Source.Name : Destination.Name),
        _ => FieldValue.Absent,
    };

    /// <inheritdoc/>
    public IEnumerable<string> Fields => [];

    private static FieldValue Text(string text) => FieldValue.Of(text.Length == 0 ? null : text);
}
