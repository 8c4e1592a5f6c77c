using Skevin.Agent.Buffer;
using Skevin.Core.Traces;

namespace Skevin.Agent.Collection;

/// <summary>What an agent measures of itself; it is sent and asked for like any other metric.</summary>
public static class OwnMetrics
{
    /// <summary>Writes it.</summary>
    /// <param name="status">What the agent says of itself.</param>
    /// <param name="done">Items accepted and dropped since it was started, by outlet and signal.</param>
    /// <param name="others">Where it sends beside its server.</param>
    /// <param name="gathered">What it holds and has judged, where it gathers traces.</param>
    /// <param name="resource">What it is itself.</param>
    /// <param name="started">When it was started.</param>
    /// <param name="into">Receives the metrics.</param>
    public static void Write(AgentStatus status, IReadOnlyDictionary<(string? Outlet, string Signal), (long Sent, long Dropped)> done, IReadOnlyCollection<Outlet> others, (int Traces, int Spans, long Bytes, IReadOnlyDictionary<TailReason, long> Decided)? gathered, IReadOnlyList<KeyValuePair<string, string>> resource, DateTimeOffset started, MetricsBuilder into)
    {
        into.Gauge(resource, "skevin.agent.buffer.usage", "By", status.BufferBytes);
        into.Gauge(resource, "skevin.agent.buffer.limit", "By", status.BufferLimit);
        into.Gauge(resource, "skevin.agent.batches.waiting", "{batch}", status.Batches);
        foreach (var signal in status.Sources.GroupBy(source => source.Signal))
        {
            KeyValuePair<string, string> of = new("skevin.signal", signal.Key);
            into.Gauge(resource, "skevin.agent.sources", "{source}", signal.Count(), of);
            into.Gauge(resource, "skevin.agent.sources.failing", "{source}", signal.Count(source => source.Error is not null), of);
        }
        foreach (var ((outlet, signal), (sent, dropped)) in done)
        {
            KeyValuePair<string, string>[] of = outlet is null ? [new("skevin.signal", signal)] : [new("skevin.signal", signal), new("skevin.destination", outlet)];
            into.Counter(resource, "skevin.agent.items.sent", "{item}", sent, started, of);
            into.Counter(resource, "skevin.agent.items.dropped", "{item}", dropped, started, of);
        }
        foreach (var outlet in others)
        {
            KeyValuePair<string, string> of = new("skevin.destination", outlet.Name);
            into.Gauge(resource, "skevin.agent.destination.buffer.usage", "By", outlet.Buffer.Bytes, of);
            into.Gauge(resource, "skevin.agent.destination.failing", "1", outlet.Trouble is null ? 0 : 1, of);
        }
        if (gathered is { } held)
        {
            into.Gauge(resource, "skevin.agent.traces.held", "{trace}", held.Traces);
            into.Gauge(resource, "skevin.agent.spans.held", "{span}", held.Spans);
            foreach (var (reason, count) in held.Decided)
                into.Counter(resource, "skevin.agent.traces.judged", "{trace}", count, started, new KeyValuePair<string, string>("skevin.kept", reason switch { TailReason.Failed => "failed", TailReason.Slow => "slow", TailReason.Share => "share", _ => "no" }));
        }
    }
}
