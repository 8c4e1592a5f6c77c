using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Nodes;
using Skevin.StandIn.Api;

namespace Skevin.StandIn.Model;

/// <summary>Events of pods and workloads, as the cluster's own recorder writes them: the same thing again is counted up, what is old is forgotten after an hour.</summary>
public sealed class EventRecorder(ObjectStore store)
{
    private static readonly TimeSpan Kept = TimeSpan.FromHours(1);

    /// <summary>Writes one about a pod.</summary>
    public void Write(DateTimeOffset now, SimPod pod, string type, string reason, string message) =>
        Write(now, new JsonObject { ["kind"] = "Pod", ["namespace"] = pod.Namespace, ["name"] = pod.Name, ["uid"] = pod.Uid, ["apiVersion"] = "v1" }, pod.Node, type, reason, message);

    /// <summary>Writes one.</summary>
    /// <param name="now">The model's time.</param>
    /// <param name="about">What it is about.</param>
    /// <param name="host">Node it was noticed on; empty for none.</param>
    /// <param name="type">Normal or Warning.</param>
    /// <param name="reason">One word.</param>
    /// <param name="message">A sentence.</param>
    public void Write(DateTimeOffset now, JsonObject about, string host, string type, string reason, string message)
    {
        var at = now.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture);
        var key = new ObjectKey("", "events", about["namespace"]!.GetValue<string>(), $"{about["name"]}.{Convert.ToHexString(MD5.HashData(Encoding.UTF8.GetBytes(reason + message)))[..10].ToLowerInvariant()}");
        var before = store.Get(key)?.Body;
        store.Put(key, new JsonObject
        {
            ["apiVersion"] = "v1", ["kind"] = "Event",
            ["metadata"] = new JsonObject { ["creationTimestamp"] = before?["metadata"]?["creationTimestamp"]?.DeepClone() ?? at, ["uid"] = before?["metadata"]?["uid"]?.DeepClone() ?? Guid.NewGuid().ToString() },
            ["involvedObject"] = about,
            ["type"] = type, ["reason"] = reason, ["message"] = message, ["count"] = (before?["count"]?.GetValue<int>() ?? 0) + 1,
            ["firstTimestamp"] = before?["firstTimestamp"]?.DeepClone() ?? at, ["lastTimestamp"] = at,
            ["source"] = new JsonObject { ["component"] = host.Length > 0 ? "node agent" : "controller", ["host"] = host },
        });
        foreach (var old in store.List("", "events", "").Objects.Where(item => now - DateTimeOffset.Parse(item.Body["lastTimestamp"]!.GetValue<string>(), CultureInfo.InvariantCulture) > Kept))
            store.Remove(old.Key);
    }
}
