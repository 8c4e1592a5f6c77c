using Skevin.Agent.Buffer;
using Skevin.Agent.Receivers;
using Skevin.Core.Arrivals;
using Skevin.Core.Collection;

namespace Skevin.Agent.Collection;

/// <summary>Takes what containers write, what the cluster's events say and what machines send as syslog, and seals it.</summary>
public sealed class LogTaking(AgentEnvironment environment, ClusterAccess cluster, Outlets outlets, SourceReports reports, FreeSpace space)
{
    private static readonly TimeSpan PodsEvery = TimeSpan.FromSeconds(10);
    private const int RecordsABatch = 20_000;

    private readonly LogTailer _tailer = new(environment.HostRoot, outlets.Own);
    private readonly FileTailer _files = new(environment, outlets.Own);
    private readonly ClusterEvents _events = new(cluster, outlets.Own);

    /// <summary>Reads the lines of the node's containers.</summary>
    /// <param name="plan">What is read.</param>
    /// <param name="now">The time.</param>
    /// <param name="full">Whether no more can be kept.</param>
    /// <param name="stop">Cancels.</param>
    public async Task Containers(LogsPlan plan, DateTimeOffset now, Func<bool> full, CancellationToken stop)
    {
        await cluster.RefreshPods(now, PodsEvery, stop);
        if (space.Trouble is { } trouble)
        {
            reports.AddToAll("logs", now, trouble);
            return;
        }
        try
        {
            for (var more = true; more && !stop.IsCancellationRequested && !full();)
            {
                more = false;
                var batch = new List<TailedLines>();
                foreach (var lines in _tailer.Read(plan, cluster.Pods, cluster.PodsAt, environment.NodeName, now))
                {
                    if (lines.Source.Length > 0)
                        reports.Add("logs", lines.Source, lines.Count, now, lines.LostAt is { } lost ? $"lines were lost at {lost:HH:mm:ss}: the runtime has rotated files away faster than they were read" : lines.Strange > 0 ? $"{lines.Strange} lines are not in the container runtime's format and were passed over" : null);
                    if (lines.Count == 0 && lines.Marks.Count == 0)
                        continue;
                    batch.Add(lines);
                    more |= lines.More;
                    if (batch.Sum(read => read.Count) >= RecordsABatch)
                    {
                        Seal(batch);
                        batch = [];
                    }
                }
                if (batch.Count > 0)
                    Seal(batch);
            }
        }
        catch (Exception wrong) when (ClusterAccess.IsTrouble(wrong, stop))
        {
            foreach (var pod in cluster.Pods.Where(pod => ExpectedSources.Chosen(plan.Namespaces, plan.Only, pod)))
                foreach (var container in pod.Containers)
                    reports.Add("logs", ExpectedSources.Log(pod.Namespace, pod.Name, container.Name), 0, now, "the log files cannot be read: " + wrong.Message);
        }
    }

    /// <summary>Reads log files of a machine outside of clusters.</summary>
    public void Files(IReadOnlyList<string> paths, DateTimeOffset now, Func<bool> full)
    {
        for (var more = true; more && !full();)
        {
            more = false;
            var errors = new Dictionary<string, string?>();
            var counts = new Dictionary<string, int>();
            foreach (var (lines, error) in _files.Read(paths, now))
            {
                errors[lines.Source] = error ?? errors.GetValueOrDefault(lines.Source);
                counts[lines.Source] = counts.GetValueOrDefault(lines.Source) + lines.Count;
                more |= lines.More;
                if (lines.Count + lines.Marks.Count > 0)
                    Seal([lines]);
            }
            foreach (var (source, error) in errors)
                reports.Add("logs", source, counts[source], now, space.Trouble ?? error);
        }
    }

    /// <summary>Reads the cluster's events.</summary>
    public async Task Events(DateTimeOffset now, CancellationToken stop)
    {
        var (events, marks, error) = await _events.Read(stop);
        var count = events.Sum(group => group.ScopeLogs[0].LogRecords.Count);
        reports.Add("logs", ExpectedSources.ClusterEvents, count, now, error);
        if (count + marks.Count > 0)
            outlets.Seal("logs", LogBatch.Request(events), [new("logs", ExpectedSources.ClusterEvents, count)], marks);
    }

    /// <summary>Takes what syslog has come, or closes the ports where it is not planned.</summary>
    public async Task Syslog(SyslogReceiver receiver, bool planned, DateTimeOffset now)
    {
        var source = environment.Role == AgentRole.Machine ? ExpectedSources.MachineEndpoint(environment.NodeName, "syslog") : ExpectedSources.Syslog(environment.NodeName);
        try
        {
            await receiver.Listen(planned);
        }
        catch (System.Net.Sockets.SocketException taken)
        {
            reports.Add("logs", source, 0, now, $"syslog cannot be taken on port {environment.SyslogPort}: {taken.Message}");
            return;
        }
        if (space.Trouble is null && receiver.Take(source) is var (records, count))
        {
            reports.Add("logs", source, count, now, receiver.Error);
            outlets.Seal("logs", LogBatch.Request(records), [new("logs", source, count)]);
        }
    }

    private void Seal(List<TailedLines> batch) => outlets.Seal("logs", LogBatch.Request(batch.Where(lines => lines.Count > 0).Select(lines => lines.Records)),
        [.. batch.Where(lines => lines.Count > 0).Select(lines => new BatchContent("logs", lines.Source, lines.Count))],
        batch.SelectMany(lines => lines.Marks).DistinctBy(pair => pair.Key).ToDictionary(pair => pair.Key, pair => pair.Value));
}
