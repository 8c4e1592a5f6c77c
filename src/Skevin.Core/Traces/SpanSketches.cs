using Skevin.Core.Blocks;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Traces;

/// <summary>The durations of spans that are alike, of one minute: enough to count them and to tell their quantiles, without the spans.</summary>
/// <param name="Minute">They began in (Minute − 60 s, Minute], epoch milliseconds.</param>
/// <param name="Origin">Cluster, namespace, workload and service they come from.</param>
/// <param name="Spans">How many there are.</param>
/// <param name="Weight">How many they stand for.</param>
/// <param name="Sum">Of their durations by weight, in seconds.</param>
/// <param name="Least">Shortest, in seconds.</param>
/// <param name="Greatest">Longest, in seconds.</param>
/// <param name="Sketch">Of their durations in seconds.</param>
public sealed record SketchedSpans(long Minute, Labels Origin, string Name, SpanKind Kind, SpanStatus Status, long Spans, double Weight, double Sum, double Least, double Greatest, QuantileSketch Sketch) : IRow
{
    /// <summary>Fields by which such spans are told apart.</summary>
    public static readonly IReadOnlySet<string> Known = new HashSet<string> { "service", "service.name", "namespace", "k8s.namespace.name", "workload", "cluster", "k8s.cluster.name", "name", "kind", "status" };

    /// <inheritdoc/>
    public long Milliseconds => Minute;

    /// <inheritdoc/>
    public long Rows => Spans;

    /// <inheritdoc/>
    public FieldValue this[string field] => field switch
    {
        "name" => FieldValue.Of(Name),
        "kind" => FieldValue.Of(Kind.ToString().ToLowerInvariant()),
        "status" => FieldValue.Of(Status.ToString().ToLowerInvariant()),
        _ => FieldValue.Of(FieldNames.Value(Origin, field)),
    };

    /// <inheritdoc/>
    public IEnumerable<string> Fields => Origin.Select(pair => pair.Key);
}

/// <summary>Sketches of the spans of a block, kept beside it: long stretches of time are answered from them.</summary>
public static class SpanSketches
{
    private const byte Version = 1;

    /// <summary>Sketches spans.</summary>
    public static byte[] Of(IEnumerable<Span> spans)
    {
        var origins = new Dictionary<Labels, Labels>(ReferenceEqualityComparer.Instance);
        var cells = new Dictionary<(Labels, string, SpanKind, SpanStatus, long), SketchedSpans>();
        foreach (var span in spans)
        {
            if (!origins.TryGetValue(span.Resource, out var origin))
                origins[span.Resource] = origin = Labels.From(span.Resource.Where(pair => pair.Key is "service.name" or "k8s.namespace.name" or "k8s.cluster.name" || FieldNames.Workload.Contains(pair.Key)));
            var (minute, seconds) = ((span.Milliseconds + 59_999) / 60_000 * 60_000, span.Duration / 1e9);
            var key = (origin, span.Name, span.Kind, span.Status, minute);
            var cell = cells.GetValueOrDefault(key) ?? new SketchedSpans(minute, origin, span.Name, span.Kind, span.Status, 0, 0, 0, double.PositiveInfinity, double.NegativeInfinity, new QuantileSketch());
            cell.Sketch.Add(seconds, span.Weight);
            cells[key] = cell with
            {
                Spans = cell.Spans + 1,
                Weight = cell.Weight + span.Weight,
                Sum = cell.Sum + seconds * span.Weight,
                Least = Math.Min(cell.Least, seconds),
                Greatest = Math.Max(cell.Greatest, seconds),
            };
        }
        var writer = new BlockWriter();
        writer.Unsigned((ulong)cells.Count);
        var before = 0L;
        foreach (var cell in cells.Values.OrderBy(cell => cell.Minute))
        {
            writer.Signed(cell.Minute - before);
            before = cell.Minute;
            writer.Labels(cell.Origin);
            writer.Text(cell.Name);
            writer.Unsigned((ulong)cell.Kind | ((ulong)cell.Status << 4));
            writer.Unsigned((ulong)cell.Spans);
            writer.Double(cell.Weight);
            writer.Double(cell.Sum);
            writer.Double(cell.Least);
            writer.Double(cell.Greatest);
            cell.Sketch.Write(writer);
        }
        return writer.Finish(Version);
    }

    /// <summary>Decodes what <see cref="Of"/> wrote.</summary>
    /// <exception cref="FormatException">The bytes are no such sketches.</exception>
    public static SketchedSpans[] Decode(ReadOnlySpan<byte> block)
    {
        var reader = new BlockReader(block, Version);
        var cells = new SketchedSpans[reader.Count()];
        var minute = 0L;
        for (var i = 0; i < cells.Length; i++)
        {
            minute += reader.Signed();
            var (origin, name, code) = (reader.Labels(), reader.Text(), reader.Unsigned());
            cells[i] = new SketchedSpans(minute, origin, name, (SpanKind)(byte)(code & 15), (SpanStatus)(byte)(code >> 4), (long)reader.Unsigned(), reader.Double(), reader.Double(), reader.Double(), reader.Double(), QuantileSketch.Read(reader));
        }
        return cells;
    }
}
