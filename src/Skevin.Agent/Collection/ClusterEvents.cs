using System.Globalization;
using k8s;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Logs.V1;

using Skevin.Agent.Buffer;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Agent.Collection;

/// <summary>Reads the cluster's events: each once, and again when the cluster counts it up.</summary>
public sealed class ClusterEvents(ClusterAccess cluster, DiskBuffer buffer)
{
    private const string Prefix = "event:";

    /// <summary>One pass.</summary>
    /// <returns>New events with the marks to pass with them, or an error.</returns>
    public async Task<(IReadOnlyList<ResourceLogs> Events, Dictionary<string, long?> Marks, string? Error)> Read(CancellationToken stop)
    {
        try
        {
            using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
            patience.CancelAfter(TimeSpan.FromSeconds(10));
            var list = await cluster.Client.CoreV1.ListEventForAllNamespacesAsync(cancellationToken: patience.Token);
            var (marks, seen) = (new Dictionary<string, long?>(), new HashSet<string>(StringComparer.Ordinal));
            var groups = new Dictionary<string, ResourceLogs>();
            foreach (var item in list.Items)
            {
                var name = Prefix + (item.Metadata.Uid ?? $"{item.Metadata.NamespaceProperty}/{item.Metadata.Name}");
                var count = item.Series?.Count ?? item.Count ?? 1;
                seen.Add(name);
                if (buffer.Mark(name) >= count)
                    continue;
                marks[name] = count;
                var about = item.InvolvedObject;
                var place = new List<KeyValuePair<string, string>>();
                if (!string.IsNullOrEmpty(about?.NamespaceProperty))
                    place.Add(new("k8s.namespace.name", about.NamespaceProperty));
                if (about?.Kind == "Pod")
                    place.Add(new("k8s.pod.name", about.Name));
                if (about?.Kind == "Node")
                    place.Add(new("k8s.node.name", about.Name));
                var key = string.Join('\0', place.Select(pair => pair.Value));
                if (!groups.TryGetValue(key, out var group))
                {
                    groups[key] = group = new ResourceLogs { Resource = new() };
                    OtlpAttributes.Write(group.Resource.Attributes, place);
                    group.ScopeLogs.Add(LogBatch.Scope(ExpectedSources.ClusterEvents));
                }
                var record = new LogRecord
                {
                    TimeUnixNano = MetricsBuilder.Nanoseconds(new DateTimeOffset(DateTime.SpecifyKind(
                        item.Series?.LastObservedTime ?? item.LastTimestamp ?? item.EventTime ?? item.FirstTimestamp ?? item.Metadata.CreationTimestamp ?? default, DateTimeKind.Utc))),
                    EventName = OtlpLogs.ClusterEvent,
                    SeverityNumber = (int)(item.Type == "Warning" ? Core.Logs.LogLevel.Warn : Core.Logs.LogLevel.Info),
                    Body = new AnyValue { StringValue = item.Message ?? "" },
                };
                OtlpAttributes.Write(record.Attributes,
                [
                    new("k8s.event.reason", item.Reason ?? ""), new("k8s.event.object", $"{about?.Kind} {about?.Name}".Trim()), new("k8s.event.uid", name[Prefix.Length..]),
                    new("k8s.event.count", count.ToString(CultureInfo.InvariantCulture)),
                ]);
                group.ScopeLogs[0].LogRecords.Add(record);
            }
            // The cluster forgets its events after a while; their marks go with them.
            foreach (var gone in buffer.Marks(Prefix).Where(name => !seen.Contains(name)))
                marks[gone] = null;
            return ([.. groups.Values], marks, null);
        }
        catch (Exception trouble) when (ClusterAccess.IsTrouble(trouble, stop))
        {
            return ([], [], Skevin.ClusterApi.InventoryWatch.Words(trouble));
        }
    }
}
