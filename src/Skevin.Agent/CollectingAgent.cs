using System.IO.Compression;
using System.Net;
using System.Text.Json;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
using OpenTelemetry.Proto.Logs.V1;
using OpenTelemetry.Proto.Resource.V1;
using Skevin.Agent.Buffer;
using Skevin.Agent.Collection;
using Skevin.Agent.Receivers;
using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Series;

namespace Skevin.Agent;

/// <summary>What an agent says about itself.</summary>
public sealed record AgentStatus(
    string Node, string Role, int Revision, string Server, PushState? LastPush, int Batches, long BufferBytes, long BufferLimit,
    IReadOnlyList<SourceReport> Sources, string? ConfigurationError);

/// <summary>
/// The collector. Its work comes in passes: <see cref="CollectDue"/> reads what is due and seals it to disk,
/// <see cref="SendPending"/> brings it to the server. <see cref="Run"/> does both by the clock. Spans and flows come when they come:
/// spans are sealed before their sender is answered, flows with the next pass.
/// </summary>
public sealed class CollectingAgent : IAsyncDisposable
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);
    private static readonly TimeSpan Punctual = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan StatusEvery = TimeSpan.FromSeconds(20);
    private static readonly TimeSpan EventsEvery = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan PodsEvery = TimeSpan.FromSeconds(10);
    private const int RecordsABatch = 20_000;

    private readonly AgentEnvironment _environment;
    private readonly DiskBuffer _buffer;
    private readonly FreeSpace _space;
    private readonly Sender _sender;
    private readonly ClusterAccess _cluster;
    private readonly SourceReader _reader;
    private readonly NetworkProbe _probe;
    private readonly LogTailer _logs;
    private readonly ClusterEvents _events;
    private readonly SealQueue<ExportTraceServiceRequest> _spans;
    private readonly SealQueue<ExportLogsServiceRequest> _sentLogs;
    private readonly HttpClient _scrapes;
    private readonly HttpClient _pushes;
    private readonly Lock _lock = new();
    private readonly Dictionary<(string Signal, string Source), SourceReport> _sources = [];
    private AgentConfiguration? _configuration;
    private DateTime _configurationWritten;
    private string? _configurationError = "not read yet";
    private readonly Dictionary<string, (long Sent, long Dropped)> _done = [];
    private readonly DateTimeOffset _started;
    private DateTimeOffset _lastPass;
    private DateTimeOffset _nextMetrics;
    private DateTimeOffset _nextSeal;
    private DateTimeOffset _nextEvents;
    private DateTimeOffset _nextStatus;
    private long _lostFlows;
    private bool _newError;

    /// <summary>Makes an agent; nothing runs yet.</summary>
    public CollectingAgent(AgentEnvironment environment)
    {
        _environment = environment;
        _started = environment.Clock.GetUtcNow();
        _buffer = new DiskBuffer(environment.BufferFolder);
        _space = new FreeSpace(environment.BufferFolder, environment.FreeBytes, environment.Clock);
        var handler = new SocketsHttpHandler { PooledConnectionIdleTimeout = TimeSpan.FromSeconds(90), AllowAutoRedirect = false, UseProxy = false };
        if (environment.Dial is { } dial)
            handler.ConnectCallback = (context, stop) => dial(context.DnsEndPoint.Host, context.DnsEndPoint.Port, stop);
        _scrapes = new HttpClient(handler);
        _pushes = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false }) { Timeout = TimeSpan.FromSeconds(30) };
        _sender = new Sender(_buffer, environment.TokenFile, environment.Clock, _pushes, environment.NodeName);
        _sender.Done += OnDone;
        _cluster = new ClusterAccess(environment);
        _reader = new SourceReader(environment, _cluster, _scrapes);
        _probe = new NetworkProbe(environment);
        _logs = new LogTailer(environment.HostRoot, _buffer);
        _events = new ClusterEvents(_cluster, _buffer);
        _spans = new(SealSpans);
        _sentLogs = new(requests => _buffer.Seal("logs", Zip(LogBatch.Request(requests.SelectMany(request => request.ResourceLogs))), []));
        Flows = new FlowReceiver(environment, _buffer);
        Syslog = new SyslogReceiver(environment);
        _spans.Start();
        _sentLogs.Start();
        if (environment.Role == AgentRole.Node)
            Flows.Start();
    }

    /// <summary>How often logs and flows are sealed. Longer makes fewer, larger batches; a change holds from the next call on.</summary>
    public TimeSpan SealEvery
    {
        get;
        set
        {
            if (value < field)
                _nextSeal = _nextStatus = DateTimeOffset.MinValue;
            field = value;
        }
    } = TimeSpan.FromSeconds(2);

    /// <summary>Takes flows.</summary>
    public FlowReceiver Flows { get; }

    /// <summary>Takes syslog, while the plan asks for it.</summary>
    public SyslogReceiver Syslog { get; }

    /// <summary>The plan in force; null before it could be read.</summary>
    public CollectionPlan? Plan => _configuration?.Plan;

    /// <summary>Hash of the key its own server knows; null before the configuration could be read.</summary>
    public string? KeyHash => _configuration?.KeyHash;

    /// <summary>Tries a name and a connection from here.</summary>
    public Task<ProbeAnswer> Probe(string host, int port, string family, CancellationToken stop) => _probe.Run(host, port, family, stop);

    /// <summary>What an endpoint gave when it was read last; null where it was not read since the start.</summary>
    public RawPage? PageOf(string source) => _reader.Pages.GetValueOrDefault(source);

    /// <summary>Whether no more can be kept.</summary>
    public bool Full => _configuration is { } configuration && (_buffer.Bytes > configuration.BufferBytes || _space.Trouble is not null);

    /// <summary>What it has to say of itself.</summary>
    public AgentStatus Status
    {
        get
        {
            lock (_lock)
                return new AgentStatus(
                    _environment.NodeName, _environment.Role.ToString().ToLowerInvariant(), _configuration?.Revision ?? 0, _configuration?.Server ?? "",
                    _sender.Last, _buffer.Count, _buffer.Bytes, _configuration?.BufferBytes ?? 0, [.. _sources.Values], _configurationError);
        }
    }

    /// <summary>Collects and sends by the clock until stopped, then sends what is left for at most 5 s.</summary>
    public async Task Run(CancellationToken stop)
    {
        await Task.WhenAll(CollectLoop(stop), SendLoop(stop));
        using var last = new CancellationTokenSource(TimeSpan.FromSeconds(5));
        if (_configuration is { } configuration)
        {
            SealFlows();
            await _sender.SendPending(configuration.Server, last.Token);
        }
    }

    private async Task CollectLoop(CancellationToken stop)
    {
        while (!stop.IsCancellationRequested)
        {
            try
            {
                await CollectDue(stop);
            }
            catch (OperationCanceledException) when (stop.IsCancellationRequested)
            {
                // What was being read is not marked as read: it is read again after the next start.
                return;
            }
            var wait = Next - _environment.Clock.GetUtcNow();
            await Pause(wait > TimeSpan.FromMilliseconds(50) ? wait : TimeSpan.FromMilliseconds(50), stop);
        }
    }

    private async Task SendLoop(CancellationToken stop)
    {
        while (!stop.IsCancellationRequested)
        {
            await SendPending(stop);
            await Pause(TimeSpan.FromMilliseconds(200), stop);
        }
    }

    private Task Pause(TimeSpan wait, CancellationToken stop) =>
        Task.Delay(wait, _environment.Clock, stop).ContinueWith(_ => { }, TaskScheduler.Default);

    /// <summary>When something is due next.</summary>
    public DateTimeOffset Next => new[] { _nextMetrics, _nextStatus, _environment.Role == AgentRole.Node ? _nextSeal : _nextEvents }.Min();

    /// <summary>Reads what is due now and seals it.</summary>
    public async Task CollectDue(CancellationToken stop)
    {
        ReadConfiguration();
        var now = _environment.Clock.GetUtcNow();
        // A clock that was set back must not keep the agent waiting for a time that is long away.
        if (now + Punctual < _lastPass)
            _nextMetrics = _nextSeal = _nextEvents = _nextStatus = now;
        _lastPass = now;
        if (_configuration is not { } configuration)
        {
            _nextMetrics = _nextStatus = _nextSeal = _nextEvents = now + TimeSpan.FromSeconds(1);
            return;
        }
        if (now >= _nextMetrics)
            await Metrics(configuration.Plan, now, stop);
        if (_environment.Role == AgentRole.Node && now >= _nextSeal)
        {
            _nextSeal = now + SealEvery;
            if (configuration.Plan.Logs is { Containers: true } logs)
                await Logs(logs, now, stop);
            if (configuration.Plan.Flows is not null)
                SealFlows();
            await TakeSyslog(configuration.Plan.Logs is { Syslog: true }, now);
        }
        if (_environment.Role == AgentRole.State && now >= _nextEvents)
        {
            _nextEvents = now + EventsEvery;
            if (configuration.Plan.Logs is { Events: true })
                await Events(now, stop);
        }
        if (now >= _nextStatus || _newError)
        {
            _nextStatus = now + (SealEvery > StatusEvery ? SealEvery : StatusEvery);
            _newError = false;
            if (_environment.Role == AgentRole.Node && configuration.Plan.Logs is { Syslog: true })
                Report("logs", ExpectedSources.Syslog(_environment.NodeName), 0, now, Syslog.Error);
            if (_environment.Role == AgentRole.Node && configuration.Plan.Flows is not null)
                Report("flows", ExpectedSources.Flows(_environment.NodeName), 0, now, Flows.Error);
            SealStatus(now);
        }
        foreach (var given in _buffer.TrimTo(configuration.BufferBytes))
            OnDone(given, false);
    }

    /// <summary>Sends what is sealed.</summary>
    public Task SendPending(CancellationToken stop) =>
        _configuration is { } configuration ? _sender.SendPending(configuration.Server, stop) : Task.CompletedTask;

    /// <summary>Takes spans an application sent; returns when they are on the disk.</summary>
    public Task TakeSpans(ExportTraceServiceRequest request, CancellationToken stop) => _spans.Seal(request, stop);

    /// <summary>Takes log records an application sent; returns when they are on the disk.</summary>
    public Task TakeLogs(ExportLogsServiceRequest request, CancellationToken stop) => _sentLogs.Seal(request, stop);

    /// <summary>Gives a sender that does not say so the name of its pod, known by its address.</summary>
    public void NameSender(Resource resource, IPAddress? address)
    {
        if (address is null || resource.Attributes.Any(pair => pair.Key == "k8s.pod.name"))
            return;
        var text = (address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address).ToString();
        if (_cluster.Pods.FirstOrDefault(pod => pod.Addresses.Contains(text)) is not { } sender)
            return;
        var given = resource.Attributes.Select(pair => pair.Key).ToHashSet();
        OtlpAttributes.Write(resource.Attributes, PodAttributes.Of(sender).Where(pair => !given.Contains(pair.Key)));
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await Flows.DisposeAsync();
        await Syslog.DisposeAsync();
        await _spans.DisposeAsync();
        await _sentLogs.DisposeAsync();
        _scrapes.Dispose();
        _pushes.Dispose();
    }

    private void ReadConfiguration()
    {
        try
        {
            var written = File.GetLastWriteTimeUtc(_environment.ConfigurationFile);
            if (_configuration is not null && written == _configurationWritten)
                return;
            var read = JsonSerializer.Deserialize<AgentConfiguration>(File.ReadAllText(_environment.ConfigurationFile), Json);
            if (read is not null)
                (_configuration, _configurationWritten, _configurationError) = (read, written, null);
        }
        catch (Exception trouble) when (trouble is IOException or JsonException or UnauthorizedAccessException)
        {
            _configurationError = "The configuration cannot be read: " + trouble.Message;
        }
    }

    private async Task Metrics(CollectionPlan plan, DateTimeOffset now, CancellationToken stop)
    {
        var every = TimeSpan.FromSeconds(plan.Metrics?.EverySecondsAt(now) ?? 15);
        // Passes lie on multiples of the interval, so that the stamps of all agents agree. A pass that comes late, as the
        // first one does, is not stamped as if it had been in time.
        var stamp = new DateTimeOffset(now.UtcTicks / every.Ticks * every.Ticks, TimeSpan.Zero);
        _nextMetrics = stamp + every;
        if (now - stamp >= Punctual)
            return;
        if (_space.Trouble is { } full)
        {
            foreach (var source in _sources.Keys.Where(key => key.Signal == "metrics").Select(key => key.Source).ToArray())
                Report("metrics", source, 0, now, full);
            return;
        }
        var results = await _reader.Read(plan, stamp, stop);
        foreach (var result in results)
            Report("metrics", result.Source, result.Metrics?.Points ?? 0, now, result.Error);
        var own = new MetricsBuilder(ExpectedSources.Own(_environment.NodeName + (_environment.Role == AgentRole.State ? " (state)" : "")), stamp);
        Dictionary<string, (long, long)> done;
        lock (_lock)
            done = new(_done);
        if (results.Count > 0)
            OwnMetrics.Write(Status, done, _environment.PodName, Manifests.Namespace, _started, own);
        var read = results.Select(result => result.Metrics).OfType<MetricsBuilder>().Append(own).Where(metrics => metrics.Points > 0).ToArray();
        if (read.Length > 0)
            _buffer.Seal("metrics", Zip(MetricsBuilder.Request(read)), [.. read.Select(metrics => new BatchContent("metrics", metrics.Source, metrics.Points))]);
    }

    private async Task Logs(LogsPlan plan, DateTimeOffset now, CancellationToken stop)
    {
        await _cluster.RefreshPods(now, PodsEvery, stop);
        if (_space.Trouble is { } full)
        {
            foreach (var source in _sources.Keys.Where(key => key.Signal == "logs").Select(key => key.Source).ToArray())
                Report("logs", source, 0, now, full);
            return;
        }
        try
        {
            for (var more = true; more && !stop.IsCancellationRequested && !Full;)
            {
                more = false;
                var batch = new List<TailedLines>();
                foreach (var lines in _logs.Read(plan, _cluster.Pods, _cluster.PodsAt, _environment.NodeName, now))
                {
                    if (lines.Source.Length > 0)
                        Report("logs", lines.Source, lines.Count, now, lines.LostAt is { } lost ? $"lines were lost at {lost:HH:mm:ss}: the runtime has rotated files away faster than they were read" : lines.Strange > 0 ? $"{lines.Strange} lines are not in the container runtime's format and were passed over" : null);
                    if (lines.Count == 0 && lines.Marks.Count == 0)
                        continue;
                    batch.Add(lines);
                    more |= lines.More;
                    if (batch.Sum(read => read.Count) >= RecordsABatch)
                    {
                        SealLogs(batch);
                        batch = [];
                    }
                }
                if (batch.Count > 0)
                    SealLogs(batch);
            }
        }
        catch (Exception trouble) when (ClusterAccess.IsTrouble(trouble, stop))
        {
            foreach (var pod in _cluster.Pods.Where(pod => ExpectedSources.Chosen(plan.Namespaces, pod.Namespace)))
                foreach (var container in pod.Containers)
                    Report("logs", ExpectedSources.Log(pod.Namespace, pod.Name, container.Name), 0, now, "the log files cannot be read: " + trouble.Message);
        }
    }

    private void SealLogs(List<TailedLines> batch) => _buffer.Seal("logs", Zip(LogBatch.Request(batch.Where(lines => lines.Count > 0).Select(lines => lines.Records))),
        [.. batch.Where(lines => lines.Count > 0).Select(lines => new BatchContent("logs", lines.Source, lines.Count))],
        batch.SelectMany(lines => lines.Marks).DistinctBy(pair => pair.Key).ToDictionary(pair => pair.Key, pair => pair.Value));

    private async Task Events(DateTimeOffset now, CancellationToken stop)
    {
        var (events, marks, error) = await _events.Read(stop);
        var count = events.Sum(group => group.ScopeLogs[0].LogRecords.Count);
        Report("logs", ExpectedSources.ClusterEvents, count, now, error);
        if (count + marks.Count > 0)
            _buffer.Seal("logs", Zip(LogBatch.Request(events)), [new("logs", ExpectedSources.ClusterEvents, count)], marks);
    }

    private void SealSpans(IReadOnlyList<ExportTraceServiceRequest> requests)
    {
        var whole = new ExportTraceServiceRequest();
        var contents = new Dictionary<string, int>();
        foreach (var resource in requests.SelectMany(request => request.ResourceSpans))
        {
            whole.ResourceSpans.Add(resource);
            var count = resource.ScopeSpans.Sum(scope => scope.Spans.Count);
            if (count > 0 && OtlpTraces.SourceOf(Labels.From(OtlpAttributes.Read(resource.Resource?.Attributes))) is { } source)
                contents[source] = contents.GetValueOrDefault(source) + count;
        }
        var now = _environment.Clock.GetUtcNow();
        foreach (var (source, count) in contents)
            Report("traces", source, count, now, null);
        if (whole.ResourceSpans.Any(resource => resource.ScopeSpans.Any(scope => scope.Spans.Count > 0)))
            _buffer.Seal("traces", Zip(whole), [.. contents.Select(pair => new BatchContent("traces", pair.Key, pair.Value))]);
    }

    private async Task TakeSyslog(bool planned, DateTimeOffset now)
    {
        var source = ExpectedSources.Syslog(_environment.NodeName);
        try
        {
            await Syslog.Listen(planned);
        }
        catch (System.Net.Sockets.SocketException taken)
        {
            Report("logs", source, 0, now, $"syslog cannot be taken on port {_environment.SyslogPort}: {taken.Message}");
            return;
        }
        if (_space.Trouble is null && Syslog.Take(source) is var (records, count))
        {
            Report("logs", source, count, now, Syslog.Error);
            _buffer.Seal("logs", Zip(LogBatch.Request(records)), [new("logs", source, count)]);
        }
    }

    private void SealFlows()
    {
        // What cannot be kept stays with the receiver, which drops and counts it when it has too much.
        if (_space.Trouble is not null)
            return;
        if (Flows.Take() is not var (body, count, marks))
            return;
        var source = ExpectedSources.Flows(_environment.NodeName);
        Report("flows", source, count, _environment.Clock.GetUtcNow(), Flows.Error);
        _buffer.Seal("flows", Zip(body), [new("flows", source, count)], marks);
    }

    private void Report(string signal, string source, int read, DateTimeOffset now, string? error)
    {
        lock (_lock)
        {
            var before = _sources.GetValueOrDefault((signal, source), new SourceReport(signal, source, _environment.NodeName, now, 0, 0, 0, null));
            _newError |= error is not null && error != before.Error;
            var lost = 0L;
            if (signal == "flows")
                (lost, _lostFlows) = (Flows.Lost - _lostFlows, Flows.Lost);
            _sources[(signal, source)] = before with { At = now, Read = before.Read + read, Dropped = before.Dropped + lost, Error = error };
        }
    }

    private void SealStatus(DateTimeOffset now)
    {
        var scope = LogBatch.Scope(null);
        lock (_lock)
        {
            // A source nothing was heard of for a while is gone: its pod moved or ended.
            foreach (var gone in _sources.Where(pair => now - pair.Value.At > TimeSpan.FromMinutes(10)).Select(pair => pair.Key).ToArray())
                _sources.Remove(gone);
            scope.LogRecords.AddRange(_sources.Values.Select(report => (report with { At = now }).Write()));
        }
        if (scope.LogRecords.Count == 0)
            return;
        var resource = new ResourceLogs { Resource = new() };
        OtlpAttributes.Write(resource.Resource.Attributes, PodAttributes.Node(_environment.NodeName));
        resource.ScopeLogs.Add(scope);
        _buffer.Seal("logs", Zip(LogBatch.Request([resource])), []);
    }

    private void OnDone(SealedBatch batch, bool accepted)
    {
        lock (_lock)
            foreach (var (signal, source, count) in batch.Contents)
            {
                var (sent, dropped) = _done.GetValueOrDefault(signal);
                _done[signal] = accepted ? (sent + count, dropped) : (sent, dropped + count);
                if (_sources.TryGetValue((signal, source), out var report))
                    _sources[(signal, source)] = accepted ? report with { Sent = report.Sent + count } : report with { Dropped = report.Dropped + count };
            }
    }

    private static byte[] Zip(IMessage message) => Zip(stream => message.WriteTo(stream));

    private static byte[] Zip(byte[] body) => Zip(stream => stream.Write(body));

    private static byte[] Zip(Action<Stream> write)
    {
        using var packed = new MemoryStream();
        using (var zip = new GZipStream(packed, CompressionLevel.Fastest))
            write(zip);
        return packed.ToArray();
    }
}
