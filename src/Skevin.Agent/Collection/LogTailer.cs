using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Logs.V1;
using Skevin.Agent.Buffer;
using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using Skevin.Core.Formats.ContainerLog;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Logs;

namespace Skevin.Agent.Collection;

/// <summary>Lines of one container read in a pass.</summary>
/// <param name="Source">The container's source.</param>
/// <param name="Records">Its lines.</param>
/// <param name="Marks">How far its files were read with them.</param>
/// <param name="Strange">Lines that are not in the runtime's format.</param>
/// <param name="More">Whether more is waiting to be read.</param>
/// <param name="LostAt">When lines were lost last, within some minutes: files were rotated away before they were read. Null where none were.</param>
public sealed record TailedLines(string Source, ResourceLogs Records, IReadOnlyDictionary<string, long?> Marks, int Count, int Strange, bool More, DateTimeOffset? LostAt = null);

/// <summary>
/// Reads the containers' log files of a node, <c>var/log/pods/&lt;namespace&gt;_&lt;pod&gt;_&lt;uid&gt;/&lt;container&gt;/&lt;restart&gt;.log</c>, across
/// rotation and its own restarts. A file is known by its first line, which begins with a time in nanoseconds, so that it is
/// the same file under the name it is rotated to. Source of the layout: container runtime interface, log format.
/// </summary>
public sealed class LogTailer(string hostRoot, DiskBuffer buffer)
{
    private const string Prefix = "log:";
    private const int LongestPass = 1 << 20;
    private const int LongestMessage = 1 << 20;
    private static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(10);

    private static readonly TimeSpan LongestNameless = TimeSpan.FromSeconds(15);

    // Milliseconds in which a text in several lines is written.
    private const long JoinedFor = 500;

    private static readonly TimeSpan LossRemembered = TimeSpan.FromMinutes(2);

    private readonly Dictionary<string, DateTimeOffset> _lost = [];
    private readonly Dictionary<string, DateTimeOffset> _waiting = [];
    private readonly Dictionary<string, DateTimeOffset> _firstSeen = [];
    private readonly Dictionary<string, PodState> _known = [];
    private readonly Dictionary<string, Func<string, bool>> _matchers = [];

    private string Root => Path.Combine(hostRoot, "var/log/pods");

    /// <summary>Reads what is new.</summary>
    /// <param name="plan">Which namespaces.</param>
    /// <param name="pods">Pods of this node, for the names of their workloads.</param>
    /// <param name="listedAt">When the pods were listed. The log of a pod that is not among them waits a little for the next list.</param>
    /// <param name="node">This node.</param>
    /// <param name="now">The clock.</param>
    /// <returns>One entry a container, also for those with nothing new.</returns>
    /// <exception cref="IOException">The folder cannot be read.</exception>
    public IEnumerable<TailedLines> Read(LogsPlan plan, IReadOnlyList<PodState> pods, DateTimeOffset listedAt, string node, DateTimeOffset now)
    {
        foreach (var pod in pods)
            _known[pod.Uid] = pod;
        var present = new HashSet<string>(StringComparer.Ordinal);
        foreach (var folder in Directory.EnumerateDirectories(Root).Order(StringComparer.Ordinal))
        {
            var parts = Path.GetFileName(folder).Split('_');
            if (parts.Length != 3 || !ExpectedSources.Chosen(plan.Namespaces, parts[0]))
                continue;
            var named = _known.TryGetValue(parts[2], out var pod);
            // What a pod is, is known by the list of pods alone; until it is on it, its log waits.
            if (plan.Only is { } only && (pod is null || !only.Fits(pod)))
                continue;
            var seen = _firstSeen.TryGetValue(parts[2], out var first) ? first : _firstSeen[parts[2]] = now;
            foreach (var container in Directory.EnumerateDirectories(folder))
            {
                var key = $"{Prefix}{parts[2]}/{Path.GetFileName(container)}/";
                present.Add(key);
                if (!named && listedAt <= seen && now - seen < LongestNameless)
                    continue;
                List<KeyValuePair<string, string>> attributes = pod is not null
                    ? PodAttributes.Of(pod, Path.GetFileName(container))
                    : [new("k8s.namespace.name", parts[0]), new("k8s.pod.name", parts[1]), new("k8s.node.name", node), new("k8s.container.name", Path.GetFileName(container))];
                attributes.Add(new("k8s.pod.uid", parts[2]));
                yield return ReadContainer(container, key, ExpectedSources.Log(parts[0], parts[1], Path.GetFileName(container)), attributes, LeftOut(plan, parts[0], pod?.Workload), plan.Joined, now);
            }
        }
        // Marks of containers whose folder is gone are of no more use.
        var gone = buffer.Marks(Prefix).Where(mark => !present.Contains(mark[..(mark.LastIndexOf('/') + 1)])).ToArray();
        foreach (var uid in _firstSeen.Keys.Where(uid => !present.Any(key => key.StartsWith($"{Prefix}{uid}/", StringComparison.Ordinal))).ToArray())
        {
            _firstSeen.Remove(uid);
            foreach (var key in _lost.Keys.Where(key => key.StartsWith($"{Prefix}{uid}/", StringComparison.Ordinal)).ToArray())
                _lost.Remove(key);
            _known.Remove(uid);
        }
        if (gone.Length > 0 && present.Count > 0)
            yield return new TailedLines("", new ResourceLogs(), gone.ToDictionary(mark => mark, _ => (long?)null), 0, 0, false);
    }

    // Rules are few and compiled once.
    private Func<string, bool>[] LeftOut(LogsPlan plan, string ns, string? workload) =>
        [.. (plan.LeftOut ?? []).Where(rule => rule.Workload.Length == 0 || rule.Workload == $"{ns}/{workload}").Select(rule => _matchers.TryGetValue(rule.Kind, out var known) ? known : _matchers[rule.Kind] = LineKinds.Matcher(rule.Kind))];

    private TailedLines ReadContainer(string folder, string key, string source, List<KeyValuePair<string, string>> attributes, Func<string, bool>[] leftOut, bool joined, DateTimeOffset now)
    {
        var files = Files(folder, key);
        try
        {
            // Of the files that were read none is there any more: what was written in between is gone, nobody knows how much.
            if (files.Count > 0 && buffer.Marks(key).ToArray() is { Length: > 0 } marked && !files.Exists(file => marked.Contains(file.Mark)))
                _lost[key] = now;
            var read = Read(files, key, source, attributes, joined, now) with { LostAt = _lost.TryGetValue(key, out var lost) && now - lost < LossRemembered ? lost : null };
            var records = read.Records.ScopeLogs[0].LogRecords;
            if (leftOut.Length == 0 || records.Count == 0)
                return read;
            var kept = records.Where(record => !Array.Exists(leftOut, rule => rule(record.Body.StringValue))).ToArray();
            records.Clear();
            records.AddRange(kept);
            return read with { Count = kept.Length };
        }
        finally
        {
            files.ForEach(file => file.Dispose());
        }
    }

    private TailedLines Read(List<MarkedFile> files, string key, string source, List<KeyValuePair<string, string>> attributes, bool joined, DateTimeOffset now)
    {
        var scope = LogBatch.Scope(source);
        var resource = new ResourceLogs { Resource = new() };
        OtlpAttributes.Write(resource.Resource.Attributes, attributes);
        resource.ScopeLogs.Add(scope);
        var marks = new Dictionary<string, long?>();
        // Lines in order over all files; a mark may only pass where no part of a message is waiting for its rest.
        var pending = new Pending?[2];
        var (strange, read, more) = (0, 0L, false);
        var safe = (Records: 0, Strange: 0);
        var readTo = new Dictionary<string, long>();
        var joining = new Joining();
        for (var i = 0; i < files.Count && !more; i++)
        {
            var file = files[i];
            var offset = buffer.Mark(file.Mark) ?? 0;
            if (offset >= file.Length && !file.Packed)
                continue;
            var lines = file.Lines(offset, LongestPass - read, out var cut);
            foreach (var (line, end) in lines)
            {
                read += line.Length + 1;
                readTo[file.Mark] = end;
                if (ContainerLogLine.Read(line.Span) is not { } parsed)
                {
                    strange++;
                }
                else
                {
                    var stream = parsed.Stderr ? 1 : 0;
                    var waiting = pending[stream];
                    if (parsed.Partial && (waiting?.Length ?? 0) + parsed.Message.Length < LongestMessage)
                    {
                        pending[stream] = (waiting ?? new Pending(parsed.Time, [], 0)).With(parsed.Message);
                        continue;
                    }
                    var message = waiting is null ? parsed.Message : string.Concat(waiting.Parts.Append(parsed.Message));
                    if (!joined || !joining.Joins(stream, parsed.Time, message))
                    {
                        var record = Record(parsed, message, waiting?.Time ?? parsed.Time);
                        if (joined)
                            joining.Begins(stream, parsed.Time, record, waiting is null && pending[1 - stream] is null ? (scope.LogRecords.Count, new(marks)) : null);
                        scope.LogRecords.Add(record);
                    }
                    pending[stream] = null;
                }
                if (pending[0] is null && pending[1] is null)
                {
                    // A message may have begun in the file before this one.
                    safe = (scope.LogRecords.Count, strange);
                    joining.Keep();
                    foreach (var (mark, to) in readTo)
                        marks[mark] = to;
                }
            }
            more = cut;
        }
        if (pending.Any(part => part is not null))
        {
            if (more ? marks.Count > 0 : !WaitedLong(key, now))
            {
                // What came after the first waiting part is read again with its rest.
                while (scope.LogRecords.Count > safe.Records)
                    scope.LogRecords.RemoveAt(scope.LogRecords.Count - 1);
                joining.GoBack();
                return new TailedLines(source, resource, marks, scope.LogRecords.Count, safe.Strange, more);
            }
            foreach (var (part, i) in pending.Select((part, i) => (part, i)).Where(pair => pair.part is not null))
                scope.LogRecords.Add(Record(new ContainerLogLine(part!.Time, i == 1, false, ""), string.Concat(part.Parts), part.Time));
            foreach (var (mark, to) in readTo)
                marks[mark] = to;
        }
        _waiting.Remove(key);
        // What was only just begun may go on: it is read again with its rest, in the next pass.
        if (joining.Begun is var (records, marksBefore) && (more ? records > 0 : now.ToUnixTimeMilliseconds() - joining.LastAt / 1_000_000 is >= 0 and < JoinedFor))
        {
            while (scope.LogRecords.Count > records)
                scope.LogRecords.RemoveAt(scope.LogRecords.Count - 1);
            return new TailedLines(source, resource, marksBefore, records, strange, more);
        }
        return new TailedLines(source, resource, marks, scope.LogRecords.Count, strange, more);
    }

    // Joins lines of one stream while lines of the other stand between them, and knows from where a pass has to be read again.
    private sealed class Joining
    {
        private readonly LogRecord?[] _last = new LogRecord?[2];
        private readonly (int Records, Dictionary<string, long?> Marks)?[] _begun = new (int, Dictionary<string, long?>)?[2];
        private readonly (LogRecord Record, int Length)?[] _kept = new (LogRecord, int)?[2];

        /// <summary>Where the last text began, or the one before it where that has gone on since; null where that lies in the middle of a message.</summary>
        public (int Records, Dictionary<string, long?> Marks)? Begun { get; private set; }

        public long LastAt { get; private set; }

        public bool Joins(int stream, long time, string message)
        {
            LastAt = time;
            if (_last[stream] is not { } before || before.Body.StringValue.Length + message.Length >= LineJoining.Longest || !LineJoining.GoesOn(message))
                return false;
            before.Body.StringValue += "\n" + message;
            // What of the other stream began since lies between: it can only be read again together with this.
            if (_begun[stream] is not { } begun || _begun[1 - stream] is { } other && begun.Records < other.Records)
                _begun[1 - stream] = _begun[stream];
            if (_begun[stream] is not { } from || Begun is { } last && from.Records < last.Records)
                Begun = _begun[stream];
            return true;
        }

        public void Begins(int stream, long time, LogRecord record, (int Records, Dictionary<string, long?> Marks)? at) => (LastAt, _last[stream], _begun[stream], Begun) = (time, record, at, at);

        public void Keep()
        {
            for (var stream = 0; stream < 2; stream++)
                _kept[stream] = _last[stream] is { } record ? (record, record.Body.StringValue.Length) : null;
        }

        public void GoBack()
        {
            foreach (var (record, length) in _kept.OfType<(LogRecord, int)>())
                record.Body.StringValue = record.Body.StringValue[..length];
        }
    }

    private sealed record Pending(long Time, List<string> Parts, int Length)
    {
        public Pending With(string part)
        {
            Parts.Add(part);
            return this with { Length = Length + part.Length };
        }
    }

    // A message whose rest does not come is given as it is after a while: its program may have been killed in the middle.
    private bool WaitedLong(string key, DateTimeOffset now)
    {
        if (!_waiting.TryGetValue(key, out var waiting))
            _waiting[key] = waiting = now;
        return now - waiting > LongestWait;
    }

    private static LogRecord Record(ContainerLogLine line, string message, long time)
    {
        var record = Record(LogMessage.Read(message), (ulong)time);
        OtlpAttributes.Write(record.Attributes, [new("log.iostream", line.Stderr ? "stderr" : "stdout")]);
        return record;
    }

    /// <summary>What a program said, as a log record.</summary>
    internal static LogRecord Record(LogMessage said, ulong nanoseconds)
    {
        var record = new LogRecord
        {
            TimeUnixNano = nanoseconds, SeverityNumber = (int)said.Level, Body = new AnyValue { StringValue = said.Text },
            TraceId = said.Trace.IsEmpty ? Google.Protobuf.ByteString.Empty : Google.Protobuf.ByteString.CopyFrom(said.Trace.Bytes()),
            SpanId = said.Span == 0 ? Google.Protobuf.ByteString.Empty : Google.Protobuf.ByteString.CopyFrom(Core.Traces.TraceId.SpanBytes(said.Span)),
        };
        OtlpAttributes.Write(record.Attributes, said.Fields);
        return record;
    }

    // Rotated files first, in the order of their names' times, then the one being written; restarts in order.
    private static List<MarkedFile> Files(string folder, string key)
    {
        var files = new List<MarkedFile>();
        for (var attempt = 0; ; attempt++)
        {
            var paths = Paths(folder);
            foreach (var path in paths)
                if (MarkedFile.Open(path, key) is { } file && files.All(other => other.Mark != file.Mark))
                    files.Add(file);
            // One rotated meanwhile lies under a name not listed yet; what is read must be whole and in order.
            if (attempt == 2 || paths.SequenceEqual(Paths(folder)))
                return files;
            files.ForEach(file => file.Dispose());
            files.Clear();
        }
    }

    private static string[] Paths(string folder) =>
        [.. Directory.EnumerateFiles(folder).Select(path => (path, order: Order(Path.GetFileName(path)))).Where(pair => pair.order is not null).OrderBy(pair => pair.order).Select(pair => pair.path)];

    private static (int, int, string)? Order(string name)
    {
        var parts = name.Split(".log", 2);
        return parts.Length == 2 && int.TryParse(parts[0], out var restart) && (parts[1].Length == 0 || parts[1][0] == '.') ? (restart, parts[1].Length == 0 ? 1 : 0, parts[1]) : null;
    }
}
