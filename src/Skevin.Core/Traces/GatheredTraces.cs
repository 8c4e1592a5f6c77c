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

/// <summary>What some spans of one trace come to. The root is the span without a parent, or the earliest.</summary>
public sealed class TracePart : IRow
{
    private bool _hasRoot;
    private long _rootStart;

    /// <summary>Of the first of its spans.</summary>
    public TracePart(SpanPlace first, string title, Labels origin)
    {
        (Trace, From, To) = (first.Trace, first.Start, first.Start + first.Duration);
        Take(first.IsRoot, first.Start, title, origin);
        Count(first);
    }

    /// <summary>The trace.</summary>
    public TraceId Trace { get; }

    /// <summary>Start of the earliest span, nanoseconds since the epoch.</summary>
    public long From { get; private set; }

    /// <summary>End of the latest span.</summary>
    public long To { get; private set; }

    /// <summary>What the root is called.</summary>
    public string Root { get; private set; } = "";

    /// <summary>Where the root comes from.</summary>
    public Labels Origin { get; private set; } = Labels.None;

    /// <summary>How many spans.</summary>
    public int Spans { get; private set; }

    /// <summary>How many of them failed.</summary>
    public int Errors { get; private set; }

    /// <inheritdoc/>
    public long Milliseconds => IRow.Stamp(From);

    /// <inheritdoc/>
    public double Weight => 1;

    /// <inheritdoc/>
    public long Rows => Spans;

    /// <inheritdoc/>
    public FieldValue this[string field] => FieldValue.Absent;

    /// <inheritdoc/>
    public IEnumerable<string> Fields => [];

    /// <summary>Takes a span more, and says whether its name and origin are wanted.</summary>
    public bool Add(SpanPlace span)
    {
        Count(span);
        return Better(span.IsRoot, span.Start);
    }

    /// <summary>Takes the name and origin of a span that <see cref="Add(SpanPlace)"/> wanted.</summary>
    public void Take(bool isRoot, long start, string title, Labels origin) => (_hasRoot, _rootStart, Root, Origin) = (isRoot, start, title, origin);

    /// <summary>Takes other spans of the same trace.</summary>
    public void Add(TracePart other)
    {
        (From, To) = (Math.Min(From, other.From), Math.Max(To, other.To));
        (Spans, Errors) = (Spans + other.Spans, Errors + other.Errors);
        if (Better(other._hasRoot, other._rootStart))
            Take(other._hasRoot, other._rootStart, other.Root, other.Origin);
    }

    private void Count(SpanPlace span)
    {
        (From, To) = (Math.Min(From, span.Start), Math.Max(To, span.Start + span.Duration));
        (Spans, Errors) = (Spans + 1, Errors + (span.Failed ? 1 : 0));
    }

    private bool Better(bool isRoot, long start) => _hasRoot ? isRoot && start < _rootStart : isRoot || start < _rootStart;
}

/// <summary>The rows of <c>traces</c>, one a trace: each span is looked at once and let go.</summary>
internal sealed class GatheredTraces : IRowGatherer
{
    private const int MostTraces = 5_000_000;

    private readonly Dictionary<TraceId, TracePart> _traces = [];

    public void Add(IRow row)
    {
        var part = row as TracePart;
        var span = part is null ? ((ISpanRow)row).Place : default;
        ref var trace = ref CollectionsMarshal.GetValueRefOrAddDefault(_traces, part?.Trace ?? span.Trace, out _);
        if (trace is null)
        {
            if (_traces.Count > MostTraces)
                throw new LimitException("traces", $"More than {MostTraces:N0} traces. Shorten the window, or narrow with where.");
            trace = part ?? new TracePart(span, ((ISpanRow)row).Title, ((ISpanRow)row).Origin);
        }
        else if (part is not null)
        {
            trace.Add(part);
        }
        else if (trace.Add(span))
        {
            trace.Take(span.IsRoot, span.Start, ((ISpanRow)row).Title, ((ISpanRow)row).Origin);
        }
    }

    /// <summary>The rows, the newest first.</summary>
    public IReadOnlyList<IRow> Finish()
    {
        var parts = _traces.Values.ToArray();
        Array.Sort(parts, (one, other) => other.Milliseconds.CompareTo(one.Milliseconds) is var later && later != 0 ? later
            : one.Trace.High.CompareTo(other.Trace.High) is var high && high != 0 ? high : one.Trace.Low.CompareTo(other.Trace.Low));
        return [.. parts.Select(part => new TraceRow(part))];
    }
}

/// <summary>A trace as a row.</summary>
internal sealed class TraceRow(TracePart part) : IRow
{
    public TraceId Trace => part.Trace;

    public long Milliseconds => part.Milliseconds;

    public double Weight => 1;

    public IEnumerable<string> Fields => [];

    public FieldValue this[string field] => field switch
    {
        "time" => FieldValue.Of((double)Milliseconds),
        "trace" => FieldValue.Of(part.Trace.ToString()),
        "root" => FieldValue.Of(part.Root),
        "service" => FieldValue.Of(TraceRows.WorkloadOf(part.Origin)),
        "duration" => FieldValue.Of((part.To - part.From) / 1e9),
        "spans" => FieldValue.Of((double)part.Spans),
        "errors" => FieldValue.Of((double)part.Errors),
        _ => FieldValue.Absent,
    };
}
