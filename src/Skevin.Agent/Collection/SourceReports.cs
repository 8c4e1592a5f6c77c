using OpenTelemetry.Proto.Logs.V1;
using Skevin.Agent.Buffer;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Agent.Collection;

/// <summary>What an agent knows of its sources: read, sent, dropped, and the last error.</summary>
public sealed class SourceReports(string node, IEnumerable<KeyValuePair<string, string>> place)
{
    // A source nothing was heard of for so long is gone: its pod moved or ended.
    private static readonly TimeSpan Gone = TimeSpan.FromMinutes(10);

    private readonly Lock _lock = new();
    private readonly Dictionary<(string Signal, string Source), SourceReport> _sources = [];
    private readonly Dictionary<(string? Outlet, string Signal), (long Sent, long Dropped)> _done = [];
    private bool _changed;

    /// <summary>All of them.</summary>
    public IReadOnlyList<SourceReport> All
    {
        get
        {
            lock (_lock)
                return [.. _sources.Values];
        }
    }

    /// <summary>Items accepted and dropped since the start, by outlet (null for the server) and signal.</summary>
    public IReadOnlyDictionary<(string? Outlet, string Signal), (long Sent, long Dropped)> Done
    {
        get
        {
            lock (_lock)
                return new Dictionary<(string?, string), (long, long)>(_done);
        }
    }

    /// <summary>Names of the sources of a signal.</summary>
    public IReadOnlyList<string> Of(string signal)
    {
        lock (_lock)
            return [.. _sources.Keys.Where(key => key.Signal == signal).Select(key => key.Source)];
    }

    /// <summary>Adds what was read of a source.</summary>
    /// <param name="signal">Its signal.</param>
    /// <param name="source">Its name.</param>
    /// <param name="read">How many items.</param>
    /// <param name="now">When.</param>
    /// <param name="error">What went wrong, or null.</param>
    /// <param name="lost">Items known to be lost.</param>
    public void Add(string signal, string source, int read, DateTimeOffset now, string? error, long lost = 0)
    {
        lock (_lock)
        {
            var before = _sources.GetValueOrDefault((signal, source), new SourceReport(signal, source, node, now, 0, 0, 0, null));
            _changed |= error != before.Error;
            _sources[(signal, source)] = before with { At = now, Read = before.Read + read, Dropped = before.Dropped + lost, Error = error };
        }
    }

    /// <summary>Says the same of all sources of a signal.</summary>
    public void AddToAll(string signal, DateTimeOffset now, string? error)
    {
        foreach (var source in Of(signal))
            Add(signal, source, 0, now, error);
    }

    /// <summary>Whether an error has come or gone since this was last asked.</summary>
    public bool TakeChange()
    {
        lock (_lock)
            return Interlocked.Exchange(ref _changed, false);
    }

    /// <summary>Whether an error has come or gone.</summary>
    public bool HasChange
    {
        get
        {
            lock (_lock)
                return _changed;
        }
    }

    /// <summary>Counts a batch that was accepted or given up. What other destinations do with it does not touch its sources.</summary>
    public void Count(Outlet? outlet, SealedBatch batch, bool accepted)
    {
        var direct = outlet is null || outlet.Name == Outlets.Gathering;
        lock (_lock)
            foreach (var (signal, source, count) in batch.Contents)
            {
                var key = (direct ? null : outlet!.Name, signal);
                var (sent, dropped) = _done.GetValueOrDefault(key);
                _done[key] = accepted ? (sent + count, dropped) : (sent, dropped + count);
                if (direct && _sources.TryGetValue((signal, source), out var report))
                    _sources[(signal, source)] = accepted ? report with { Sent = report.Sent + count } : report with { Dropped = report.Dropped + count };
            }
    }

    /// <summary>All of them as log records; those nothing was heard of for long are forgotten.</summary>
    public ResourceLogs? Write(DateTimeOffset now)
    {
        var scope = LogBatch.Scope(null);
        lock (_lock)
        {
            foreach (var gone in _sources.Where(pair => now - pair.Value.At > Gone).Select(pair => pair.Key).ToArray())
                _sources.Remove(gone);
            scope.LogRecords.AddRange(_sources.Values.Select(report => (report with { At = now }).Write()));
        }
        if (scope.LogRecords.Count == 0)
            return null;
        var resource = new ResourceLogs { Resource = new() };
        OtlpAttributes.Write(resource.Resource.Attributes, place);
        resource.ScopeLogs.Add(scope);
        return resource;
    }
}
