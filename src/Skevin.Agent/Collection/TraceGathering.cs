using System.IO.Compression;
using OpenTelemetry.Proto.Collector.Trace.V1;
using Skevin.Agent.Buffer;
using Skevin.Core.Collection;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Agent.Collection;

/// <summary>
/// Holds the spans of all nodes until their traces are whole, and sends on those worth it. What waits lies on the disk: after a
/// restart it is read again, and the server knows a span it has by its number.
/// </summary>
public sealed class TraceGathering
{
    private readonly DiskBuffer _waiting;
    private readonly Outlets _outlets;
    private readonly TimeProvider _clock;
    private readonly TailSampling _sampling = new();
    private readonly Dictionary<string, SealedBatch> _batches = [];
    private readonly Lock _lock = new();

    /// <summary>Takes up what a former run left waiting.</summary>
    public TraceGathering(string folder, Outlets outlets, TimeProvider clock)
    {
        (_waiting, _outlets, _clock) = (new DiskBuffer(Path.Combine(folder, "waiting")), outlets, clock);
        foreach (var batch in _waiting.All)
        {
            _batches[batch.Key] = batch;
            using var body = new GZipStream(new MemoryStream(batch.Body(default).GetAwaiter().GetResult()), CompressionMode.Decompress);
            _sampling.Take(batch.Key, ExportTraceServiceRequest.Parser.ParseFrom(body), clock.GetUtcNow());
        }
    }

    /// <summary>Traces held, spans held, and traces judged by reason.</summary>
    public (int Traces, int Spans, long Bytes, IReadOnlyDictionary<TailReason, long> Decided) State
    {
        get
        {
            lock (_lock)
                return (_sampling.Traces, _sampling.Spans, _waiting.Bytes, new Dictionary<TailReason, long>(_sampling.Decided));
        }
    }

    /// <summary>Takes spans; they are on the disk when this returns.</summary>
    public void Take(ExportTraceServiceRequest request)
    {
        if (!request.ResourceSpans.Any(resource => resource.ScopeSpans.Any(scope => scope.Spans.Count > 0)))
            return;
        lock (_lock)
        {
            var batch = _waiting.Seal("traces", Outlets.Zip(stream => Google.Protobuf.MessageExtensions.WriteTo(request, stream)), []);
            _batches[batch.Key] = batch;
            _sampling.Take(batch.Key, request, _clock.GetUtcNow());
        }
    }

    /// <summary>Judges traces whose time is over and seals what is kept.</summary>
    /// <param name="plan">The plan for traces; without a tail everything that waits is sent on.</param>
    public void Decide(TracesPlan? plan)
    {
        lock (_lock)
        {
            var (tail, share) = plan?.Tail is { } given ? (given, plan.Share) : (new TailPlan(), 1);
            var decided = _sampling.Decide(tail, share, _clock.GetUtcNow(), all: plan?.Tail is null);
            if (decided.Kept.ResourceSpans.Count > 0)
                _outlets.Seal("traces", decided.Kept, Contents(decided.Kept));
            // Only now: what is sealed for the next hop need not wait here.
            foreach (var key in decided.Finished)
                if (_batches.Remove(key, out var batch))
                    _waiting.Remove(batch);
        }
    }

    /// <summary>How many spans of each workload a request holds.</summary>
    public static IReadOnlyList<BatchContent> Contents(ExportTraceServiceRequest request) =>
    [
        .. request.ResourceSpans.Select(resource => (Source: OtlpTraces.SourceOf(Labels.From(OtlpAttributes.Read(resource.Resource?.Attributes))), Count: resource.ScopeSpans.Sum(scope => scope.Spans.Count)))
            .Where(pair => pair.Source is not null && pair.Count > 0).GroupBy(pair => pair.Source!).Select(group => new BatchContent("traces", group.Key, group.Sum(pair => pair.Count))),
    ];
}
