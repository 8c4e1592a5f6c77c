using System.IO.Compression;
using System.Net.Http.Headers;
using Google.Protobuf;
using Skevin.Core.Collection;

namespace Skevin.Agent.Buffer;

/// <summary>A place batches are sent to, with those that wait for it.</summary>
/// <param name="Name">What it is called.</param>
/// <param name="Address">Base address of its OTLP endpoint.</param>
/// <param name="Takes">Which signals go there.</param>
public sealed record Outlet(string Name, string Address, Func<string, bool> Takes, DiskBuffer Buffer, Sender Sender)
{
    /// <summary>Why nothing is accepted there now; null where the last push was.</summary>
    public string? Trouble => Sender.Last is { NextTry: not null } last ? (last.Status > 0 ? $"{last.Status} {last.Text}" : last.Text) : null;
}

/// <summary>
/// Where an agent's batches go: to its server, with the read marks that make sure nothing is lost or read twice, and from there or
/// beside it to other places, each with a buffer of its own, so that one that does not take keeps up none of the others.
/// </summary>
public sealed class Outlets
{
    /// <summary>Name of the outlet that leads to the collector in which traces are gathered.</summary>
    public const string Gathering = "gathering";

    private readonly AgentEnvironment _environment;
    private readonly HttpClient _inside;
    private readonly HttpClient _outside;
    private Dictionary<string, Outlet> _others = [];
    private AgentConfiguration? _configuration;

    /// <summary>Opens the buffer to the server.</summary>
    /// <param name="environment">The surroundings.</param>
    /// <param name="inside">Reaches pods and services of the cluster.</param>
    /// <param name="outside">Reaches everything else.</param>
    public Outlets(AgentEnvironment environment, HttpClient inside, HttpClient outside)
    {
        (_environment, _inside, _outside) = (environment, inside, outside);
        Own = new DiskBuffer(environment.BufferFolder);
        Server = new Sender(Own, async stop => File.Exists(environment.TokenFile) ? "Bearer " + (await File.ReadAllTextAsync(environment.TokenFile, stop)).Trim() : "Bearer", environment.Clock, outside, environment.NodeName);
        Server.Done += (batch, accepted) => Done?.Invoke(null, batch, accepted);
    }

    /// <summary>Batches on their way to the server, and the read marks.</summary>
    public DiskBuffer Own { get; }

    /// <summary>Sends them.</summary>
    public Sender Server { get; }

    /// <summary>The other places.</summary>
    public IReadOnlyCollection<Outlet> Others => _others.Values;

    /// <summary>Bytes that wait in all buffers.</summary>
    public long Bytes => Own.Bytes + _others.Values.Sum(outlet => outlet.Buffer.Bytes);

    /// <summary>A batch was accepted, or rejected for good and given up; by which outlet, null for the server.</summary>
    public event Action<Outlet?, SealedBatch, bool>? Done;

    /// <summary>Opens and closes outlets as the plan says. What waits for a place that is gone is given up.</summary>
    public void Follow(AgentConfiguration configuration)
    {
        if (ReferenceEquals(configuration, _configuration))
            return;
        _configuration = configuration;
        var next = new Dictionary<string, Outlet>();
        var tail = configuration.Plan.Traces?.Tail is not null;
        if (tail && _environment.Role == AgentRole.Node)
            next[Gathering] = Open(Gathering, Manifests.GatheringAddress, signal => signal == "traces", null, _inside);
        foreach (var destination in configuration.Plan.Destinations ?? [])
            next["to-" + destination.Name] = Open("to-" + destination.Name, destination.Url,
                // Traces that are gathered first leave from where they are gathered.
                signal => destination.Takes(signal) && !(signal == "traces" && tail && _environment.Role == AgentRole.Node), Path.Combine(_environment.DestinationsFolder, destination.Name, "authorization"), _outside);
        foreach (var gone in _others.Where(pair => !next.ContainsKey(pair.Key)).Select(pair => pair.Value).ToArray())
            foreach (var batch in gone.Buffer.TrimTo(0))
                Done?.Invoke(gone, batch, false);
        _others = next;
    }

    /// <summary>Seals a batch for everyone it goes to; it is on the disk when this returns.</summary>
    public void Seal(string signal, IMessage message, IReadOnlyList<BatchContent> contents, IReadOnlyDictionary<string, long?>? marks = null) => SealPacked(signal, Zip(message.WriteTo), contents, marks);

    /// <summary>Seals a batch for everyone it goes to.</summary>
    public void Seal(string signal, byte[] body, IReadOnlyList<BatchContent> contents, IReadOnlyDictionary<string, long?>? marks = null) => SealPacked(signal, Zip(stream => stream.Write(body)), contents, marks);

    /// <summary>Seals what only the server is told.</summary>
    public void SealOwn(string signal, IMessage message) => Own.Seal(signal, Zip(message.WriteTo), []);

    /// <summary>Sends what is sealed, to all places at once.</summary>
    public Task SendPending(string server, CancellationToken stop) =>
        Task.WhenAll(_others.Values.Select(outlet => outlet.Sender.SendPending(outlet.Address, stop)).Append(Server.SendPending(server, stop)));

    /// <summary>Gives up the oldest batches of each buffer that is over the limit.</summary>
    public void TrimTo(long limit)
    {
        foreach (var given in Own.TrimTo(limit))
            Done?.Invoke(null, given, false);
        foreach (var outlet in _others.Values)
            foreach (var given in outlet.Buffer.TrimTo(limit))
                Done?.Invoke(outlet, given, false);
    }

    /// <summary>Takes all buffers off the disk; what is sealed from now on is dropped.</summary>
    /// <returns>How many batches were waiting.</returns>
    public int Forget() => _others.Values.Sum(outlet => outlet.Buffer.Forget()) + Own.Forget();

    /// <summary>Whether the buffer spans leave through is full.</summary>
    public bool Full(long limit) => Own.Bytes > limit || _others.GetValueOrDefault(Gathering)?.Buffer.Bytes > limit;

    // The server's buffer is sealed last: its marks say that the batch is sealed everywhere. A kill before it makes other places get it twice.
    private void SealPacked(string signal, byte[] packed, IReadOnlyList<BatchContent> contents, IReadOnlyDictionary<string, long?>? marks)
    {
        foreach (var outlet in _others.Values.Where(outlet => outlet.Takes(signal)))
            outlet.Buffer.Seal(signal, packed, contents);
        if (signal != "traces" || !_others.ContainsKey(Gathering))
            Own.Seal(signal, packed, contents, marks);
    }

    private Outlet Open(string name, string address, Func<string, bool> takes, string? header, HttpClient http)
    {
        var kept = _others.GetValueOrDefault(name);
        if (kept is not null && kept.Address == address)
            return kept with { Takes = takes };
        var buffer = kept?.Buffer ?? new DiskBuffer(Path.Combine(_environment.BufferFolder, name));
        var sender = new Sender(buffer, async stop => header is not null && File.Exists(header) ? (await File.ReadAllTextAsync(header, stop)).Trim() : null, _environment.Clock, http, _environment.NodeName);
        var outlet = new Outlet(name, address, takes, buffer, sender);
        sender.Done += (batch, accepted) => Done?.Invoke(outlet, batch, accepted);
        return outlet;
    }

    /// <summary>Packs a body.</summary>
    public static byte[] Zip(Action<Stream> write)
    {
        using var packed = new MemoryStream();
        using (var zip = new GZipStream(packed, CompressionLevel.Fastest))
            write(zip);
        return packed.ToArray();
    }
}
