using System.Net;
using System.Net.Sockets;
using System.Text.Json;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
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
    private static readonly TimeSpan JudgeEvery = TimeSpan.FromSeconds(1);

    private readonly AgentEnvironment _environment;
    private readonly Outlets _outlets;
    private readonly FreeSpace _space;
    private readonly ClusterAccess _cluster;
    private readonly SourceReader _reader;
    private readonly NetworkProbe _probe;
    private readonly LogTaking _logs;
    private readonly SourceReports _reports;
    private readonly TraceGathering? _gathering;
    private readonly SealQueue<ExportTraceServiceRequest> _spans;
    private readonly SealQueue<ExportLogsServiceRequest> _sentLogs;
    private readonly HttpClient _scrapes;
    private readonly HttpClient _pushes;
    private readonly PlanFetch _fetch;
    private AgentConfiguration? _configuration;
    private DateTime _configurationWritten;
    private string? _configurationError = "not read yet";
    private readonly DateTimeOffset _started;
    private DateTimeOffset _lastPass;
    private DateTimeOffset _nextMetrics;
    private DateTimeOffset _nextSeal;
    private DateTimeOffset _nextEvents;
    private DateTimeOffset _nextStatus;
    private long _lostFlows;
    private string? _notGathered;
    private volatile bool _forgotten;

    /// <summary>Makes an agent; nothing runs yet.</summary>
    public CollectingAgent(AgentEnvironment environment)
    {
        _environment = environment;
        _started = environment.Clock.GetUtcNow();
        _space = new FreeSpace(environment.BufferFolder, environment.FreeBytes, environment.Clock);
        var handler = new SocketsHttpHandler { PooledConnectionIdleTimeout = TimeSpan.FromSeconds(90), AllowAutoRedirect = false, UseProxy = false };
        if (environment.Dial is { } dial)
            handler.ConnectCallback = async (context, stop) => await dial(await Address(environment, context.DnsEndPoint.Host, stop), context.DnsEndPoint.Port, stop);
        _scrapes = new HttpClient(handler);
        _pushes = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false }) { Timeout = TimeSpan.FromSeconds(30) };
        _outlets = new Outlets(environment, _scrapes, _pushes);
        _fetch = new PlanFetch(environment, _pushes);
        _reports = new SourceReports(environment.NodeName, environment.Place);
        _outlets.Done += _reports.Count;
        _cluster = new ClusterAccess(environment);
        _reader = new SourceReader(environment, _cluster, _scrapes);
        _probe = new NetworkProbe(environment);
        _logs = new LogTaking(environment, _cluster, _outlets, _reports, _space);
        _gathering = environment.Role == AgentRole.Gather ? new TraceGathering(environment.BufferFolder, _outlets, environment.Clock) : null;
        _spans = new(SealSpans);
        _sentLogs = new(requests => _outlets.Seal("logs", LogBatch.Request(requests.SelectMany(request => request.ResourceLogs)), []));
        Flows = new FlowReceiver(environment, _outlets.Own);
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
    public bool Full => _configuration is { } configuration && (_outlets.Full(configuration.BufferBytes) || _gathering?.State.Bytes > configuration.BufferBytes || _space.Trouble is not null);

    /// <summary>Whether it gathers the traces of a whole cluster, whose senders have named themselves already.</summary>
    public bool Gathers => _gathering is not null;

    /// <summary>What it has to say of itself.</summary>
    public AgentStatus Status => new(
        _environment.NodeName, _environment.Role.ToString().ToLowerInvariant(), _configuration?.Revision ?? 0, _configuration?.Server ?? "",
        _outlets.Server.Last, _outlets.Own.Count, _outlets.Bytes, _configuration?.BufferBytes ?? 0, _reports.All, _configurationError);

    /// <summary>Collects and sends by the clock until stopped, then sends what is left for at most 5 s.</summary>
    public async Task Run(CancellationToken stop)
    {
        await Task.WhenAll(CollectLoop(stop), SendLoop(stop));
        using var last = new CancellationTokenSource(TimeSpan.FromSeconds(5));
        if (_configuration is { } configuration)
        {
            SealFlows();
            await _outlets.SendPending(configuration.Server, last.Token);
        }
    }

    /// <summary>
    /// Collects no more, sends what is sealed once, and takes away what it keeps on its disk: its cluster is left. Only a new start
    /// makes it collect again.
    /// </summary>
    /// <returns>How many batches could not be sent and are lost.</returns>
    public async Task<int> Forget(CancellationToken stop)
    {
        _forgotten = true;
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
        patience.CancelAfter(TimeSpan.FromSeconds(5));
        try
        {
            await SendPending(patience.Token);
        }
        catch (OperationCanceledException) when (!stop.IsCancellationRequested)
        {
            // What its server does not take now, nobody will.
        }
        return _outlets.Forget();
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
    public DateTimeOffset Next => new[] { _nextMetrics, _nextStatus, _environment.Role == AgentRole.State ? _nextEvents : _nextSeal }.Min();

    /// <summary>Reads what is due now and seals it.</summary>
    public async Task CollectDue(CancellationToken stop)
    {
        if (_forgotten)
            return;
        var fetched = await _fetch.Run(_configuration?.Revision ?? 0, stop);
        ReadConfiguration();
        _configurationError = fetched ?? _configurationError;
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
        _outlets.Follow(configuration);
        if (now >= _nextMetrics)
            await Metrics(configuration, now, stop);
        if (configuration.Machine is { } machine && now >= _nextSeal)
        {
            _nextSeal = now + SealEvery;
            _logs.Files(machine.Files ?? [], now, () => Full);
            await _logs.Syslog(Syslog, machine.Syslog, now);
        }
        if (_environment.Role == AgentRole.Node && now >= _nextSeal)
        {
            _nextSeal = now + SealEvery;
            if (configuration.Plan.Logs is { Containers: true } logs)
                await _logs.Containers(logs, now, () => Full, stop);
            if (configuration.Plan.Flows is not null)
                SealFlows();
            await _logs.Syslog(Syslog, configuration.Plan.Logs is { Syslog: true }, now);
        }
        if (_gathering is { } gathering && now >= _nextSeal)
        {
            _nextSeal = now + (SealEvery > StatusEvery ? SealEvery : JudgeEvery);
            gathering.Decide(configuration.Plan.Traces);
        }
        if (_environment.Role == AgentRole.State && now >= _nextEvents)
        {
            _nextEvents = now + EventsEvery;
            if (configuration.Plan.Logs is { Events: true })
                await _logs.Events(now, stop);
        }
        ReportOutlets(now);
        // What goes wrong, or is well again, is said at once.
        if (now >= _nextStatus || _reports.HasChange)
        {
            _nextStatus = now + (SealEvery > StatusEvery ? SealEvery : StatusEvery);
            if (_environment.Role == AgentRole.Node && configuration.Plan.Logs is { Syslog: true })
                _reports.Add("logs", ExpectedSources.Syslog(_environment.NodeName), 0, now, Syslog.Error);
            if (_environment.Role == AgentRole.Node && configuration.Plan.Flows is not null)
                ReportFlows(0, now);
            _reports.TakeChange();
            if (_reports.Write(now) is { } records)
                _outlets.SealOwn("logs", LogBatch.Request([records]));
        }
        _outlets.TrimTo(configuration.BufferBytes);
    }

    /// <summary>Sends what is sealed.</summary>
    public Task SendPending(CancellationToken stop) =>
        _configuration is { } configuration ? _outlets.SendPending(configuration.Server, stop) : Task.CompletedTask;

    /// <summary>Takes spans an application sent; returns when they are on the disk.</summary>
    public Task TakeSpans(ExportTraceServiceRequest request, CancellationToken stop) => _spans.Seal(request, stop);

    /// <summary>Takes log records an application sent; returns when they are on the disk.</summary>
    public Task TakeLogs(ExportLogsServiceRequest request, CancellationToken stop) => _sentLogs.Seal(request, stop);

    /// <summary>Gives a sender that does not say so the name of its pod, known by its address.</summary>
    public void NameSender(Resource resource, IPAddress? address)
    {
        if (_environment.Role == AgentRole.Machine)
        {
            if (resource.Attributes.All(pair => pair.Key != "host.name"))
                OtlpAttributes.Write(resource.Attributes, _environment.Place);
            return;
        }
        if (Gathers || address is null || resource.Attributes.Any(pair => pair.Key == "k8s.pod.name"))
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

    private async Task Metrics(AgentConfiguration configuration, DateTimeOffset now, CancellationToken stop)
    {
        var plan = configuration.Plan;
        var every = TimeSpan.FromSeconds(plan.Metrics?.EverySecondsAt(now) ?? 15);
        // Passes lie on multiples of the interval, so that the stamps of all agents agree. A pass that comes late, as the
        // first one does, is not stamped as if it had been in time.
        var stamp = new DateTimeOffset(now.UtcTicks / every.Ticks * every.Ticks, TimeSpan.Zero);
        _nextMetrics = stamp + every;
        if (now - stamp >= Punctual)
            return;
        if (_space.Trouble is { } full)
        {
            _reports.AddToAll("metrics", now, full);
            return;
        }
        var results = configuration.Machine is { } machine ? await _reader.Read(machine, stamp, stop) : await _reader.Read(plan, stamp, stop);
        foreach (var result in results)
            _reports.Add("metrics", result.Source, result.Metrics?.Points ?? 0, now, result.Error);
        var own = new MetricsBuilder(configuration.Machine is not null ? ExpectedSources.MachineEndpoint(_environment.NodeName, "agent")
            : ExpectedSources.Own(_environment.NodeName + (_environment.Role == AgentRole.Node ? "" : $" ({_environment.Role.ToString().ToLowerInvariant()})")), stamp);
        if (results.Count > 0 || _gathering is not null || configuration.Machine is not null)
            OwnMetrics.Write(Status, _reports.Done, _outlets.Others, _gathering?.State, _environment.Self, _started, own);
        var read = results.Select(result => result.Metrics).OfType<MetricsBuilder>().Append(own).Where(metrics => metrics.Points > 0).ToArray();
        if (read.Length > 0)
            _outlets.Seal("metrics", MetricsBuilder.Request(read), [.. read.Select(metrics => new BatchContent("metrics", metrics.Source, metrics.Points))]);
    }

    private void SealSpans(IReadOnlyList<ExportTraceServiceRequest> requests)
    {
        var whole = new ExportTraceServiceRequest();
        whole.ResourceSpans.AddRange(requests.SelectMany(request => request.ResourceSpans));
        if (_gathering is { } gathering)
        {
            gathering.Take(whole);
            return;
        }
        var contents = TraceGathering.Contents(whole);
        var now = _environment.Clock.GetUtcNow();
        foreach (var (_, source, count) in contents)
            _reports.Add("traces", source, count, now, _notGathered);
        if (whole.ResourceSpans.Any(resource => resource.ScopeSpans.Any(scope => scope.Spans.Count > 0)))
            _outlets.Seal("traces", whole, contents);
    }

    private void SealFlows()
    {
        // What cannot be kept stays with the receiver, which drops and counts it when it has too much.
        if (_space.Trouble is not null)
            return;
        if (Flows.Take() is not var (body, count, marks))
            return;
        ReportFlows(count, _environment.Clock.GetUtcNow());
        _outlets.Seal("flows", body, [new("flows", ExpectedSources.Flows(_environment.NodeName), count)], marks);
    }

    private void ReportFlows(int count, DateTimeOffset now)
    {
        var lost = Flows.Lost - _lostFlows;
        _lostFlows += lost;
        _reports.Add("flows", ExpectedSources.Flows(_environment.NodeName), count, now, Flows.Error, lost);
    }

    // A collector that does not take traces is why they do not arrive; another destination's trouble is told as one of its own.
    private void ReportOutlets(DateTimeOffset now)
    {
        foreach (var outlet in _outlets.Others)
            if (outlet.Name != Outlets.Gathering)
                _reports.Add(ExpectedSources.Destinations, ExpectedSources.Destination(outlet.Name["to-".Length..], _environment.PodName), 0, now, outlet.Trouble);
            else if (outlet.Trouble is not null || _notGathered is not null)
                _reports.AddToAll("traces", now, _notGathered = outlet.Trouble is { } trouble ? $"{ExpectedSources.NotGathered}: {trouble}" : null);
    }

    // The handler would ask the system's name service; names of services are the cluster's.
    private static async Task<string> Address(AgentEnvironment environment, string host, CancellationToken stop)
    {
        if (environment.Resolve is not { } resolve || IPAddress.TryParse(host.Trim('[', ']'), out _))
            return host;
        foreach (var family in new[] { AddressFamily.InterNetwork, AddressFamily.InterNetworkV6 })
            if ((await resolve(host, family, stop)).FirstOrDefault() is { } address)
                return address.ToString();
        throw new SocketException((int)SocketError.HostNotFound);
    }
}
