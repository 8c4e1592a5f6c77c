using OpenTelemetry.Proto.Collector.Trace.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Resource.V1;
using OpenTelemetry.Proto.Trace.V1;
using Skevin.Core.Collection;
using OtlpSpan = OpenTelemetry.Proto.Trace.V1.Span;

namespace Skevin.Core.Traces;

/// <summary>Why a trace was kept, or not.</summary>
public enum TailReason
{
    /// <summary>One of its spans failed.</summary>
    Failed,

    /// <summary>It took longer than the plan's bound.</summary>
    Slow,

    /// <summary>By the share, for the rest.</summary>
    Share,

    /// <summary>Not kept.</summary>
    LeftOut,
}

/// <summary>What was decided.</summary>
/// <param name="Kept">Spans to send on, each with the weight of its trace.</param>
/// <param name="Finished">Batches nothing of which waits any more.</param>
public sealed record TailDecisions(ExportTraceServiceRequest Kept, IReadOnlyList<string> Finished);

/// <summary>
/// Holds traces until they are whole and keeps those worth it: all that failed or were slow, and of the rest the plan's share, by the
/// trace's id, with its weight in the trace state (<see cref="HeadSampling"/>). A trace kept for what it is stands for itself alone,
/// so counts over all kept spans stay unbiased (inverse-probability weighting; Horvitz and Thompson 1952, from memory).
/// </summary>
/// <param name="mostSpans">Spans held at most; over it the oldest traces are judged before their time.</param>
public sealed class TailSampling(int mostSpans = 200_000)
{
    private const int MostRemembered = 200_000;
    private static readonly TimeSpan Remembered = TimeSpan.FromMinutes(10);

    private sealed record Held(ResourceSpans Resource, ScopeSpans Scope, OtlpSpan Span, string Batch);

    private sealed record Gathering(DateTimeOffset First, List<Held> Spans);

    private sealed record Verdict(DateTimeOffset At, ulong? Threshold);

    private readonly Dictionary<TraceId, Gathering> _waiting = [];
    private readonly Queue<(DateTimeOffset First, TraceId Trace)> _order = new();
    private readonly Dictionary<TraceId, Verdict> _verdicts = [];
    private readonly Queue<(DateTimeOffset At, TraceId Trace)> _verdictOrder = new();
    private readonly Dictionary<string, int> _open = [];
    private readonly List<Held> _late = [];
    private readonly List<string> _finished = [];
    private readonly Dictionary<TailReason, long> _decided = [];

    /// <summary>Spans held now.</summary>
    public int Spans { get; private set; }

    /// <summary>Traces held now.</summary>
    public int Traces => _waiting.Count;

    /// <summary>Traces judged so far, by reason.</summary>
    public IReadOnlyDictionary<TailReason, long> Decided => _decided;

    /// <summary>Takes the spans of a batch.</summary>
    /// <param name="batch">What the batch is known by; said again when nothing of it waits.</param>
    /// <param name="request">Its spans.</param>
    /// <param name="now">When it came.</param>
    public void Take(string batch, ExportTraceServiceRequest request, DateTimeOffset now)
    {
        var count = 0;
        foreach (var resource in request.ResourceSpans)
            foreach (var scope in resource.ScopeSpans)
                foreach (var span in scope.Spans)
                {
                    count++;
                    var held = new Held(resource, scope, span, batch);
                    var id = TraceId.Of(span.TraceId.Span);
                    if (_verdicts.TryGetValue(id, out var verdict))
                    {
                        // What was decided of its trace holds for a span that comes after.
                        if (verdict.Threshold is { } threshold)
                            Weigh(span, threshold);
                        if (verdict.Threshold is not null)
                            _late.Add(held);
                        else
                            count--;
                        continue;
                    }
                    if (!_waiting.TryGetValue(id, out var gathering))
                    {
                        _waiting[id] = gathering = new(now, []);
                        _order.Enqueue((now, id));
                    }
                    gathering.Spans.Add(held);
                    Spans++;
                }
        if (count == 0)
            _finished.Add(batch);
        else
            _open[batch] = count;
    }

    /// <summary>Judges the traces whose time is over, and those for which there is no room.</summary>
    /// <param name="tail">What is kept whatever the share.</param>
    /// <param name="share">Share of the rest that is kept.</param>
    /// <param name="now">The time.</param>
    /// <param name="all">Whether all are judged, because the collector stops.</param>
    public TailDecisions Decide(TailPlan tail, double share, DateTimeOffset now, bool all = false)
    {
        var kept = new List<Held>(_late);
        foreach (var held in _late)
            Finish(held.Batch);
        _late.Clear();
        while (_order.TryPeek(out var oldest) && (all || Spans > mostSpans || now - oldest.First >= TimeSpan.FromSeconds(tail.WaitSeconds) || now < oldest.First))
        {
            _order.Dequeue();
            _waiting.Remove(oldest.Trace, out var gathering);
            var (reason, threshold) = Judge(oldest.Trace, gathering!.Spans.Select(held => held.Span), tail, share);
            _decided[reason] = _decided.GetValueOrDefault(reason) + 1;
            _verdicts[oldest.Trace] = new(now, threshold);
            _verdictOrder.Enqueue((now, oldest.Trace));
            Spans -= gathering.Spans.Count;
            foreach (var held in gathering.Spans)
            {
                if (threshold is { } weight)
                {
                    Weigh(held.Span, weight);
                    kept.Add(held);
                }
                Finish(held.Batch);
            }
        }
        while (_verdictOrder.TryPeek(out var old) && (now - old.At > Remembered || _verdictOrder.Count > MostRemembered))
            _verdicts.Remove(_verdictOrder.Dequeue().Trace);
        var finished = _finished.ToArray();
        _finished.Clear();
        return new(Whole(kept), finished);
    }

    /// <summary>What becomes of a trace.</summary>
    /// <returns>Why, and the threshold its spans carry; null where it is not kept.</returns>
    public static (TailReason Reason, ulong? Threshold) Judge(TraceId trace, IEnumerable<OtlpSpan> spans, TailPlan tail, double share)
    {
        var (failed, first, last) = (false, ulong.MaxValue, 0UL);
        foreach (var span in spans)
        {
            failed |= span.Status?.Code == Status.Types.StatusCode.Error;
            (first, last) = (Math.Min(first, span.StartTimeUnixNano), Math.Max(last, span.EndTimeUnixNano));
        }
        if (tail.Failed && failed)
            return (TailReason.Failed, 0);
        if (tail.SlowerSeconds is { } slower && last > first && (last - first) / 1e9 > slower)
            return (TailReason.Slow, 0);
        var threshold = HeadSampling.Threshold(share);
        return HeadSampling.Keeps(trace, threshold) ? (TailReason.Share, threshold) : (TailReason.LeftOut, null);
    }

    // An earlier sampler's greater threshold stays: the trace then stands for more.
    private static void Weigh(OtlpSpan span, ulong threshold)
    {
        if (threshold > 0 && (HeadSampling.Read(span.TraceState) is not { } earlier || earlier < threshold))
            span.TraceState = HeadSampling.Write(span.TraceState, threshold);
    }

    private void Finish(string batch)
    {
        if (--_open[batch] > 0)
            return;
        _open.Remove(batch);
        _finished.Add(batch);
    }

    // Put together by their resources and scopes again, as they came.
    private static ExportTraceServiceRequest Whole(List<Held> kept)
    {
        var request = new ExportTraceServiceRequest();
        foreach (var resource in kept.GroupBy(held => held.Resource.Resource ?? new Resource()))
        {
            var into = new ResourceSpans { Resource = resource.Key, SchemaUrl = resource.First().Resource.SchemaUrl };
            foreach (var scope in resource.GroupBy(held => held.Scope.Scope ?? new InstrumentationScope()))
            {
                var spans = new ScopeSpans { Scope = scope.Key, SchemaUrl = scope.First().Scope.SchemaUrl };
                spans.Spans.AddRange(scope.Select(held => held.Span));
                into.ScopeSpans.Add(spans);
            }
            request.ResourceSpans.Add(into);
        }
        return request;
    }
}
