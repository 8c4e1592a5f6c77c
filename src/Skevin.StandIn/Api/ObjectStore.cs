using System.Text.Json.Nodes;
using System.Threading.Channels;

namespace Skevin.StandIn.Api;

/// <summary>Where an object lives.</summary>
/// <param name="Group">API group, empty for core.</param>
/// <param name="Plural">For example <c>pods</c>.</param>
/// <param name="Namespace">Empty at cluster scope.</param>
/// <param name="Name">Name.</param>
public readonly record struct ObjectKey(string Group, string Plural, string Namespace, string Name);

/// <summary>An object as stored: never changed after it is put in.</summary>
public sealed record StoredObject(ObjectKey Key, long Version, JsonObject Body, string Json);

/// <summary>A change, as a watch sees it.</summary>
public sealed record StoreEvent(string Type, StoredObject Object);

/// <summary>All objects of a cluster, with versions and watches.</summary>
public sealed class ObjectStore
{
    private const int Remembered = 4000;

    private readonly Lock _lock = new();
    private readonly SortedDictionary<(string, string, string, string), StoredObject> _objects = [];
    private readonly Queue<StoreEvent> _history = [];
    private readonly List<(string Group, string Plural, Channel<StoreEvent> Channel)> _watches = [];

    /// <summary>The newest version.</summary>
    public long Version { get; private set; } = 1;

    /// <summary>One object, or null.</summary>
    public StoredObject? Get(ObjectKey key)
    {
        lock (_lock)
            return _objects.GetValueOrDefault(Sort(key));
    }

    /// <summary>All objects of a kind, in a namespace or everywhere, and the version they are of.</summary>
    public (IReadOnlyList<StoredObject> Objects, long Version) List(string group, string plural, string ns)
    {
        lock (_lock)
            return ([.. _objects.Values.Where(item => item.Key.Group == group && item.Key.Plural == plural && (ns.Length == 0 || item.Key.Namespace == ns))], Version);
    }

    /// <summary>Every object, for keeping.</summary>
    public IReadOnlyList<StoredObject> All()
    {
        lock (_lock)
            return [.. _objects.Values];
    }

    /// <summary>Puts an object in; does nothing where it would not change.</summary>
    public StoredObject Put(ObjectKey key, JsonObject body)
    {
        lock (_lock)
        {
            var before = _objects.GetValueOrDefault(Sort(key));
            var metadata = body["metadata"] as JsonObject ?? (JsonObject)(body["metadata"] = new JsonObject())!;
            metadata["name"] = key.Name;
            if (key.Namespace.Length > 0)
                metadata["namespace"] = key.Namespace;
            metadata["uid"] ??= before?.Body["metadata"]?["uid"]?.DeepClone() ?? Guid.NewGuid().ToString();
            metadata["resourceVersion"] = before?.Version.ToString();
            if (before is not null && JsonNode.DeepEquals(before.Body, body))
                return before;
            Version++;
            metadata["resourceVersion"] = Version.ToString();
            var stored = new StoredObject(key, Version, body, body.ToJsonString());
            _objects[Sort(key)] = stored;
            Tell(new StoreEvent(before is null ? "ADDED" : "MODIFIED", stored));
            return stored;
        }
    }

    /// <summary>Takes an object out; with a namespace what is in it, but for pods, which end when what keeps them is gone.</summary>
    public bool Remove(ObjectKey key)
    {
        lock (_lock)
        {
            if (!_objects.ContainsKey(Sort(key)))
                return false;
            if (key is { Group: "", Plural: "namespaces" })
                foreach (var inside in _objects.Values.Where(item => item.Key.Namespace == key.Name && item.Key.Plural != "pods").ToArray())
                    TakeOut(inside);
            TakeOut(_objects[Sort(key)]);
            return true;
        }
    }

    private void TakeOut(StoredObject item)
    {
        _objects.Remove(Sort(item.Key));
        Version++;
        Tell(new StoreEvent("DELETED", item with { Version = Version }));
    }

    /// <summary>Changes of a kind after a version. Null where that version is no longer remembered (410 Gone).</summary>
    public Channel<StoreEvent>? Watch(string group, string plural, long after)
    {
        lock (_lock)
        {
            if (_history.Count == Remembered && _history.Peek().Object.Version > after + 1)
                return null;
            var channel = Channel.CreateUnbounded<StoreEvent>();
            foreach (var past in _history.Where(item => item.Object.Version > after && item.Object.Key.Group == group && item.Object.Key.Plural == plural))
                channel.Writer.TryWrite(past);
            _watches.Add((group, plural, channel));
            return channel;
        }
    }

    /// <summary>Ends a watch.</summary>
    public void End(Channel<StoreEvent> channel)
    {
        lock (_lock)
            _watches.RemoveAll(watch => watch.Channel == channel);
    }

    private void Tell(StoreEvent change)
    {
        _history.Enqueue(change);
        while (_history.Count > Remembered)
            _history.Dequeue();
        foreach (var (group, plural, channel) in _watches)
            if (group == change.Object.Key.Group && plural == change.Object.Key.Plural)
                channel.Writer.TryWrite(change);
    }

    private static (string, string, string, string) Sort(ObjectKey key) => (key.Group, key.Plural, key.Namespace, key.Name);
}
