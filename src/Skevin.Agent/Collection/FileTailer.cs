using System.Text;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Logs.V1;
using Skevin.Agent.Buffer;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.ContainerLog;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Agent.Collection;

/// <summary>
/// Reads log files of a machine, a line a record, across rotation and its own restarts. A file that is there when the agent first looks
/// is read from its end on, one that comes later from its beginning, also when it has been moved or packed meanwhile; one that was cut
/// short is read anew. A file is known by its first line, so of two that begin alike only one can be read, and that is told.
/// </summary>
public sealed class FileTailer(AgentEnvironment environment, DiskBuffer buffer)
{
    private const string Prefix = "file:";
    private const int LongestPass = 1 << 20;

    /// <summary>Reads what is new.</summary>
    /// <param name="paths">Whole paths; in the last part <c>*</c> and <c>?</c> stand for other characters.</param>
    /// <param name="now">Time of lines that do not say theirs.</param>
    /// <returns>What was read, file by file, and what could not be.</returns>
    public IEnumerable<(TailedLines Lines, string? Error)> Read(IReadOnlyList<string> paths, DateTimeOffset now)
    {
        foreach (var pattern in paths)
        {
            var source = ExpectedSources.MachineFiles(environment.NodeName, pattern);
            var known = $"{Prefix}{pattern}|";
            var first = buffer.Mark(known) is null;
            var (files, error) = Matching(pattern);
            foreach (var file in files)
            {
                var lines = ReadOne(file, source, first, now, out var alike);
                error ??= alike;
                yield return (lines, error);
            }
            // Without anything read the source is still heard of; from here on what comes new is read whole.
            yield return (new TailedLines(source, Empty(source), first ? new Dictionary<string, long?> { [known] = 1 } : new Dictionary<string, long?>(), 0, 0, false), error ?? (files.Count == 0 ? $"no file is there under {pattern}" : null));
        }
    }

    private (IReadOnlyList<string> Files, string? Error) Matching(string pattern)
    {
        var at = pattern.LastIndexOf('/');
        try
        {
            var folder = Path.Combine(environment.HostRoot, pattern[1..(at + 1)]);
            var files = Directory.GetFiles(folder, pattern[(at + 1)..]).Order(StringComparer.Ordinal).ToArray();
            // What one is moved to is read with it.
            return ([.. files.Where(file => !Array.Exists(files, other => MovedFrom(file, other)) && !Packed(file))], null);
        }
        catch (DirectoryNotFoundException)
        {
            return ([], null);
        }
        catch (Exception trouble) when (trouble is IOException or UnauthorizedAccessException)
        {
            return ([], trouble.Message);
        }
    }

    private TailedLines ReadOne(string path, string source, bool first, DateTimeOffset now, out string? alike)
    {
        var key = $"{Prefix}{path}/";
        var marked = buffer.Marks(key);
        // What the file was moved to comes first, the oldest before; the file under its own name last.
        var files = Moved(path).Append(path).Select(name => MarkedFile.Open(name, key)).OfType<MarkedFile>().ToArray();
        alike = files.GroupBy(file => file.Mark).FirstOrDefault(group => group.Count() > 1)?.Select(file => Path.GetFileName(file.Stream.Name)).ToArray() is { } names ? $"{string.Join(" and ", names)} begin with the same line, by which a file is known; only one of them is read" : null;
        try
        {
            var records = Empty(source);
            var marks = new Dictionary<string, long?>();
            var more = false;
            for (var (i, read) = (0, 0L); i < files.Length && !more; i++)
            {
                var file = files[i];
                if (marks.ContainsKey(file.Mark))
                    continue;
                var offset = buffer.Mark(file.Mark) ?? (first ? EndOf(file) : 0);
                if (offset > file.Length)
                    offset = 0;
                marks[file.Mark] = offset;
                if (offset == file.Length)
                    continue;
                var lines = file.Lines(offset, LongestPass - read, out more);
                // A packed file does not grow, and is not unpacked again.
                if (file.Packed && !more)
                    marks[file.Mark] = file.Length;
                foreach (var (line, end) in lines)
                {
                    read += line.Length + 1;
                    if (!file.Packed || more)
                        marks[file.Mark] = end;
                    if (line.Length > 0)
                        records.ScopeLogs[0].LogRecords.Add(Record(Encoding.UTF8.GetString(line.Span).TrimEnd('\r'), path, now));
                }
            }
            // A file that is gone needs its mark no more.
            if (files.Length > 0 && !more)
                foreach (var gone in marked.Where(mark => !files.Any(file => file.Mark == mark)))
                    marks[gone] = null;
            foreach (var same in marks.Where(pair => pair.Value == buffer.Mark(pair.Key)).Select(pair => pair.Key).ToArray())
                marks.Remove(same);
            return new TailedLines(source, records, marks, records.ScopeLogs[0].LogRecords.Count, 0, more);
        }
        finally
        {
            foreach (var file in files)
                file.Dispose();
        }
    }

    // Names a file is moved to in the same folder: its own with something behind it.
    private static IEnumerable<string> Moved(string path) =>
        Directory.EnumerateFiles(Path.GetDirectoryName(path)!, Path.GetFileName(path) + "*").Where(other => MovedFrom(other, path)).OrderBy(File.GetLastWriteTimeUtc);

    private static bool MovedFrom(string other, string path) => other.Length > path.Length && other[path.Length] is '.' or '-' && other.StartsWith(path, StringComparison.Ordinal);

    private static bool Packed(string path) => path.EndsWith(".gz", StringComparison.Ordinal);

    private static long EndOf(MarkedFile file)
    {
        if (file.Packed)
            return file.Length;
        var end = 0L;
        foreach (var (_, at) in file.Lines(Math.Max(0, file.Length - LongestPass), LongestPass, out _))
            end = at;
        return end;
    }

    private ResourceLogs Empty(string source)
    {
        var records = new ResourceLogs { Resource = new() };
        OtlpAttributes.Write(records.Resource.Attributes, environment.Place);
        records.ScopeLogs.Add(LogBatch.Scope(source));
        return records;
    }

    private LogRecord Record(string line, string path, DateTimeOffset now)
    {
        var said = LogMessage.Read(line);
        var record = LogTailer.Record(said, (ulong)((said.At ?? now) - DateTimeOffset.UnixEpoch).Ticks * 100);
        OtlpAttributes.Write(record.Attributes, [new("log.file.path", environment.HostRoot == "/" ? path : "/" + Path.GetRelativePath(environment.HostRoot, path))]);
        return record;
    }
}
