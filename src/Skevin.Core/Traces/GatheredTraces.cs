using System.Runtime.InteropServices;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Traces;

/// <summary>What a trace's row is made of, read from a span without making all of it.</summary>
/// <param name="Start">Nanoseconds since the epoch.</param>
/// <param name="Duration">Nanoseconds.</param>
/// <param name="IsRoot">Whether it has no parent.</param>
public readonly record struct SpanPlace(TraceId Trace, long Start, long Duration, bool IsRoot, bool Failed);

/// <summary>A span as a row, whole or by columns.</summary>
public interface ISpanRow : IRow
{
    /// <summary>Its place in its trace.</summary>
    SpanPlace Place { get; }

    /// <summary>What it is called.</summary>
    string Title { get; }

    /// <summary>Where it comes from.</summary>
    Labels Origin { get; }
}

/// <summary>The rows of <c>traces</c>, one a trace: each span is looked at once and let go. The root is the span without a parent, or the earliest.</summary>
internal sealed class GatheredTraces : IRowGatherer
{
    private const int MostTraces = 5_000_000;

    private struct Gathered
    {
        public long From, To, RootStart;
        public bool HasRoot;
        public string Root;
        public Labels Origin;
        public int Spans, Errors;
    }

    private readonly Dictionary<TraceId, Gathered> _traces = [];

    public void Add(IRow row) => Add((ISpanRow)row);

    private void Add(ISpanRow row)
    {
        var span = row.Place;
        ref var trace = ref CollectionsMarshal.GetValueRefOrAddDefault(_traces, span.Trace, out var known);
        if (!known)
        {
            if (_traces.Count > MostTraces)
                throw new LimitException("traces", $"More than {MostTraces:N0} traces. Shorten the window, or narrow with where.");
            (trace.From, trace.To) = (span.Start, span.Start + span.Duration);
        }
        (trace.From, trace.To) = (Math.Min(trace.From, span.Start), Math.Max(trace.To, span.Start + span.Duration));
        trace.Spans++;
        if (span.Failed)
            trace.Errors++;
        if (known && (trace.HasRoot && !span.IsRoot || trace.HasRoot == span.IsRoot && trace.RootStart <= span.Start))
            return;
        (trace.HasRoot, trace.RootStart, trace.Root, trace.Origin) = (span.IsRoot, span.Start, row.Title, row.Origin);
    }

    /// <summary>The rows, the newest first.</summary>
    public IReadOnlyList<IRow> Finish() =>
    [
        .. _traces.Select(one => new TraceRow(one.Key, one.Value.From, one.Value.To, one.Value.Root, one.Value.Origin, one.Value.Spans, one.Value.Errors))
            .OrderByDescending(row => row.Milliseconds).ThenBy(row => row.Trace.High).ThenBy(row => row.Trace.Low),
    ];
}

/// <summary>A trace as a row.</summary>
internal sealed class TraceRow(TraceId trace, long from, long to, string root, Labels origin, int spans, int errors) : IRow
{
    public TraceId Trace => trace;

    public long Milliseconds => IRow.Stamp(from);

    public double Weight => 1;

    public IEnumerable<string> Fields => [];

    public FieldValue this[string field] => field switch
    {
        "time" => FieldValue.Of((double)Milliseconds),
        "trace" => FieldValue.Of(trace.ToString()),
        "root" => FieldValue.Of(root),
        "service" => FieldValue.Of(TraceRows.WorkloadOf(origin)),
        "duration" => FieldValue.Of((to - from) / 1e9),
        "spans" => FieldValue.Of((double)spans),
        "errors" => FieldValue.Of((double)errors),
        _ => FieldValue.Absent,
    };
}
