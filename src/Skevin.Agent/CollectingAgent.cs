using System.IO.Compression;
using System.Text.Json;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Logs.V1;
using Skevin.Agent.Buffer;
using Skevin.Agent.Collection;
using Skevin.Core.Arrivals;
using Skevin.Core.Collection;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Agent;

/// <summary>What an agent says about itself.</summary>
public sealed record AgentStatus(
    string Node, string Role, int Revision, string Server, PushState? LastPush, int Batches, long BufferBytes, long BufferLimit,
    IReadOnlyDictionary<string, SourceReport> Sources, string? ConfigurationError);

/// <summary>
/// The collector. Its work comes in passes: <see cref="CollectDue"/> reads what is due and seals it to disk,
/// <see cref="SendPending"/> brings it to the server. <see cref="Run"/> does both by the clock.
/// </summary>
public sealed class CollectingAgent : IDisposable
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);
    private static readonly TimeSpan Punctual = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan StatusEvery = TimeSpan.FromSeconds(20);

    private readonly AgentEnvironment _environment;
    private readonly DiskBuffer _buffer;
    private readonly Sender _sender;
    private readonly SourceReader _reader;
    private readonly HttpClient _scrapes;
    private readonly HttpClient _pushes;
    private readonly Lock _lock = new();
    private readonly Dictionary<string, SourceReport> _sources = [];
    private readonly Dictionary<string, IReadOnlyList<(string Source, int Points)>> _contents = [];
    private AgentConfiguration? _configuration;
    private DateTime _configurationWritten;
    private string? _configurationError = "not read yet";
    private DateTimeOffset _nextCollection;
    private DateTimeOffset _nextStatus;
    private bool _newError;

    /// <summary>Makes an agent; nothing runs yet.</summary>
    public CollectingAgent(AgentEnvironment environment)
    {
        _environment = environment;
        _buffer = new DiskBuffer(environment.BufferFolder);
        var handler = new SocketsHttpHandler { PooledConnectionIdleTimeout = TimeSpan.FromSeconds(90), AllowAutoRedirect = false, UseProxy = false };
        if (environment.Dial is { } dial)
            handler.ConnectCallback = (context, stop) => dial(context.DnsEndPoint.Host, context.DnsEndPoint.Port, stop);
        _scrapes = new HttpClient(handler);
        _pushes = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false }) { Timeout = TimeSpan.FromSeconds(30) };
        _sender = new Sender(_buffer, environment.TokenFile, environment.Clock, _pushes);
        _sender.Done += OnDone;
        _reader = new SourceReader(environment, _scrapes);
    }

    /// <summary>What it has to say of itself.</summary>
    public AgentStatus Status
    {
        get
        {
            lock (_lock)
                return new AgentStatus(
                    _environment.NodeName, _environment.Role.ToString().ToLowerInvariant(), _configuration?.Revision ?? 0, _configuration?.Server ?? "",
                    _sender.Last, _buffer.Count, _buffer.Bytes, _configuration?.BufferBytes ?? 0, new Dictionary<string, SourceReport>(_sources), _configurationError);
        }
    }

    /// <summary>Collects and sends by the clock until stopped, then sends what is left for at most 5 s.</summary>
    public async Task Run(CancellationToken stop)
    {
        await Task.WhenAll(CollectLoop(stop), SendLoop(stop));
        using var last = new CancellationTokenSource(TimeSpan.FromSeconds(5));
        if (_configuration is { } configuration)
            await _sender.SendPending(configuration.Server, last.Token);
    }

    private async Task CollectLoop(CancellationToken stop)
    {
        while (!stop.IsCancellationRequested)
        {
            await CollectDue(stop);
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
    public DateTimeOffset Next => _nextCollection < _nextStatus ? _nextCollection : _nextStatus;

    /// <summary>Reads what is due now and seals it.</summary>
    public async Task CollectDue(CancellationToken stop)
    {
        ReadConfiguration();
        var now = _environment.Clock.GetUtcNow();
        if (_configuration is not { } configuration)
        {
            _nextCollection = _nextStatus = now + TimeSpan.FromSeconds(1);
            return;
        }
        if (now >= _nextCollection)
        {
            var every = TimeSpan.FromSeconds(configuration.Plan.Metrics?.EverySeconds ?? 15);
            // Passes lie on multiples of the interval, so that the stamps of all agents agree. A pass that comes late, as the
            // first one does, is not stamped as if it had been in time.
            var stamp = new DateTimeOffset(now.UtcTicks / every.Ticks * every.Ticks, TimeSpan.Zero);
            _nextCollection = stamp + every;
            if (now - stamp < Punctual)
                Seal(await _reader.Read(configuration.Plan, stamp, stop), now);
        }
        if (now >= _nextStatus || _newError)
        {
            _nextStatus = now + StatusEvery;
            _newError = false;
            SealStatus(now);
        }
        foreach (var given in _buffer.TrimTo(configuration.BufferBytes))
            OnDone(given, false);
    }

    /// <summary>Sends what is sealed.</summary>
    public Task SendPending(CancellationToken stop) =>
        _configuration is { } configuration ? _sender.SendPending(configuration.Server, stop) : Task.CompletedTask;

    /// <inheritdoc/>
    public void Dispose()
    {
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

    private void Seal(IReadOnlyList<SourceResult> results, DateTimeOffset now)
    {
        lock (_lock)
            foreach (var result in results)
            {
                var before = _sources.GetValueOrDefault(result.Source, new SourceReport(now, 0, 0, 0, null));
                _newError |= result.Error is not null && result.Error != before.Error;
                _sources[result.Source] = before with { At = now, Read = before.Read + (result.Metrics?.Points ?? 0), Error = result.Error };
            }
        var read = results.Select(result => result.Metrics).OfType<MetricsBuilder>().Where(metrics => metrics.Points > 0).ToArray();
        if (read.Length == 0)
            return;
        var batch = _buffer.Seal("metrics", Zip(MetricsBuilder.Request(read)));
        lock (_lock)
            _contents[batch.Key] = [.. read.Select(metrics => (metrics.Source, metrics.Points))];
    }

    private void SealStatus(DateTimeOffset now)
    {
        var scope = new ScopeLogs { Scope = new InstrumentationScope { Name = "skevin.agent" } };
        lock (_lock)
        {
            // A source nothing was heard of for a while is gone: its pod moved or ended.
            foreach (var gone in _sources.Where(pair => now - pair.Value.At > TimeSpan.FromMinutes(10)).Select(pair => pair.Key).ToArray())
                _sources.Remove(gone);
            foreach (var (source, report) in _sources)
            {
                var record = new LogRecord { TimeUnixNano = MetricsBuilder.Nanoseconds(now), EventName = SourceReport.EventName };
                MetricsBuilder.Attributes(record.Attributes,
                [
                    new("skevin.signal", "metrics"), new(OtlpMetrics.SourceAttribute, source),
                    new("skevin.error", report.Error is { Length: > 500 } ? report.Error[..500] : report.Error ?? ""),
                ]);
                foreach (var (name, value) in new[] { ("skevin.read", report.Read), ("skevin.sent", report.Sent), ("skevin.dropped", report.Dropped) })
                    record.Attributes.Add(new KeyValue { Key = name, Value = new AnyValue { IntValue = value } });
                scope.LogRecords.Add(record);
            }
        }
        if (scope.LogRecords.Count == 0)
            return;
        var resource = new ResourceLogs { Resource = new() };
        MetricsBuilder.Attributes(resource.Resource.Attributes, PodAttributes.Node(_environment.NodeName));
        resource.ScopeLogs.Add(scope);
        var request = new ExportLogsServiceRequest();
        request.ResourceLogs.Add(resource);
        _buffer.Seal("logs", Zip(request));
    }

    private void OnDone(SealedBatch batch, bool accepted)
    {
        lock (_lock)
        {
            if (!_contents.Remove(batch.Key, out var contents))
                return;
            foreach (var (source, points) in contents)
                if (_sources.TryGetValue(source, out var report))
                    _sources[source] = accepted ? report with { Sent = report.Sent + points } : report with { Dropped = report.Dropped + points };
        }
    }

    private static byte[] Zip(IMessage message)
    {
        using var packed = new MemoryStream();
        using (var zip = new GZipStream(packed, CompressionLevel.Fastest))
            message.WriteTo(zip);
        return packed.ToArray();
    }
}
