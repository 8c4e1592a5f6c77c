using System.Net;
using System.Net.Sockets;
using Skevin.Agent.Buffer;
using Skevin.Core.Formats.Ipfix;
using Skevin.Core.Traffic;

namespace Skevin.Agent.Receivers;

/// <summary>
/// Takes IPFIX over TCP from the node's flow exporter. A message an exporter repeats after a broken connection is known by its domain,
/// export time and sequence number, up to which read marks are kept with the batches. Source: RFC 7011 section 10.4.
/// </summary>
public sealed class FlowReceiver(AgentEnvironment environment, DiskBuffer buffer) : IAsyncDisposable
{
    private const string Prefix = "flow:";
    private const int MostWaiting = 200_000;

    private readonly Lock _lock = new();
    private readonly CancellationTokenSource _stop = new();
    private readonly Dictionary<string, long?> _marks = [];
    private readonly List<FlowRecord> _waiting = [];
    private TcpListener? _listener;
    private Task? _accepting;
    private int _connections;
    private uint _sequence;

    /// <summary>Port it listens on; 0 before it does.</summary>
    public int Port => (_listener?.LocalEndpoint as IPEndPoint)?.Port ?? 0;

    /// <summary>Messages read since the start, repeated ones included.</summary>
    public long Messages { get; private set; }

    /// <summary>Records that were lost before they came, by their sequence numbers.</summary>
    public long Lost { get; private set; }

    /// <summary>What is wrong; null where an exporter is connected and its messages can be read.</summary>
    public string? Error { get; private set; } = "no flow exporter has connected yet";

    /// <summary>Begins to listen.</summary>
    public void Start()
    {
        var listener = _listener = new TcpListener(environment.Listen, environment.FlowPort);
        _listener.Start();
        _accepting = Task.Run(() => Connections.Accept(listener, Serve, _stop.Token));
    }

    /// <summary>Takes out what is waiting: the flows as IPFIX that stands by itself, and the marks to pass with them.</summary>
    public (byte[] Body, int Count, IReadOnlyDictionary<string, long?> Marks)? Take()
    {
        FlowRecord[] flows;
        Dictionary<string, long?> marks;
        lock (_lock)
        {
            if (_waiting.Count == 0)
                return null;
            (flows, marks) = ([.. _waiting], new Dictionary<string, long?>(_marks));
            _waiting.Clear();
        }
        return (Write(flows), flows.Length, marks);
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        _listener?.Stop();
        if (_accepting is { } accepting)
            await accepting;
        _stop.Dispose();
    }

    private byte[] Write(IEnumerable<FlowRecord> flows)
    {
        using var body = new MemoryStream();
        var (writer, records, first) = (new IpfixWriter(), 0, true);
        var time = (uint)environment.Clock.GetUtcNow().ToUnixTimeSeconds();
        void Begin()
        {
            writer.Template(FlowIpfix.V4);
            writer.Template(FlowIpfix.V6);
            writer.Template(FlowIpfix.DomainName);
            writer.Record(FlowIpfix.DomainName);
            writer.Number(1, 4);
            writer.Variable(environment.NodeName);
            records = 1;
        }
        void End()
        {
            body.Write(writer.Finish(time, _sequence, 1));
            _sequence += (uint)records;
            (writer, records) = (new IpfixWriter(), 0);
        }
        foreach (var flow in flows)
        {
            if (first)
                Begin();
            first = false;
            if (writer.Length > IpfixWriter.Longest - 4096)
                End();
            FlowIpfix.Write(writer, flow);
            records++;
        }
        End();
        return body.ToArray();
    }

    private async Task Serve(TcpClient client)
    {
        Interlocked.Increment(ref _connections);
        Error = null;
        var peer = (client.Client.RemoteEndPoint as IPEndPoint)?.Address.ToString() ?? "";
        var session = new FlowIpfix.Session();
        var expected = new Dictionary<uint, uint>();
        try
        {
            using var _ = client;
            var stream = client.GetStream();
            var head = new byte[IpfixReader.HeaderLength];
            while (true)
            {
                if (await stream.ReadAtLeastAsync(head, head.Length, throwOnEndOfStream: false, _stop.Token) < head.Length)
                    return;
                var message = new byte[IpfixReader.LengthOf(head)];
                head.CopyTo(message, 0);
                await stream.ReadExactlyAsync(message.AsMemory(head.Length), _stop.Token);
                Take(peer, session, message, expected);
                // An exporter that sends more than can be sealed is held up by TCP itself.
                while (Waiting > MostWaiting)
                    await Task.Delay(50, _stop.Token);
            }
        }
        catch (FormatException broken)
        {
            Error = "the exporter's messages cannot be read: " + broken.Message;
        }
        catch (Exception ended) when (ended is IOException or OperationCanceledException or SocketException)
        {
            // The exporter went away, or the agent stops.
        }
        finally
        {
            if (Interlocked.Decrement(ref _connections) == 0 && !_stop.IsCancellationRequested)
                Error ??= "the flow exporter has closed its connection";
        }
    }

    private int Waiting
    {
        get
        {
            lock (_lock)
                return _waiting.Count;
        }
    }

    private void Take(string peer, FlowIpfix.Session session, byte[] message, Dictionary<uint, uint> expected)
    {
        var flows = new List<FlowRecord>();
        var read = session.Read(message, flows);
        var (time, sequence, domain) = (read.Header.ExportTime, read.Header.Sequence, read.Header.Domain);
        var name = $"{Prefix}{peer}/{domain}";
        var own = ((long)time << 32) | sequence;
        lock (_lock)
        {
            Messages++;
            // Without records there is nothing to lose or to double: templates sent again keep their sequence number.
            if (read.Records > 0)
            {
                if (expected.TryGetValue(domain, out var next) && sequence != next && (int)(sequence - next) > 0)
                    Lost += (int)(sequence - next);
                expected[domain] = sequence + (uint)read.Records;
                var mark = _marks.TryGetValue(name, out var waiting) ? waiting : buffer.Mark(name);
                if (mark >= own)
                    return;
                _marks[name] = own;
            }
            foreach (var flow in flows)
                _waiting.Add(flow with { Node = environment.NodeName });
            Error = read.WithoutTemplate > 0 ? "a set came before its template" : null;
        }
    }
}
