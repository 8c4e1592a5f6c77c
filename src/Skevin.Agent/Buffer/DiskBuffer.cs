using System.Buffers.Binary;
using System.Globalization;
using System.Text.Json;

namespace Skevin.Agent.Buffer;

/// <summary>How much of a source stands in a batch.</summary>
public sealed record BatchContent(string Signal, string Source, int Count);

/// <summary>What a batch carries beside its body.</summary>
/// <param name="Contents">What is in it, for the counts of its sources.</param>
/// <param name="Marks">Read marks that are passed with it; a null takes one away.</param>
public sealed record BatchHeader(IReadOnlyList<BatchContent> Contents, IReadOnlyDictionary<string, long?> Marks);

/// <summary>A sealed batch on disk.</summary>
/// <param name="Path">Its file.</param>
/// <param name="Key">Its id, sent as <c>Idempotency-Key</c>.</param>
/// <param name="Signal"><c>metrics</c>, <c>logs</c>, <c>traces</c> or <c>flows</c>.</param>
/// <param name="Length">Bytes.</param>
/// <param name="Contents">What is in it.</param>
/// <param name="Marked">Whether read marks are passed with it.</param>
public sealed record SealedBatch(string Path, string Key, string Signal, long Length, IReadOnlyList<BatchContent> Contents, bool Marked)
{
    /// <summary>Its body as it is sent.</summary>
    public async Task<byte[]> Body(CancellationToken stop) => DiskBuffer.Split(await File.ReadAllBytesAsync(Path, stop)).Body.ToArray();
}

/// <summary>
/// Batches on their way, one file each, oldest first, and the read marks they were read up to. A batch and its marks are one file,
/// written beside its place, flushed to the disk and then renamed: a kill leaves either both or neither, so that nothing is lost and
/// nothing read twice. The marks of batches that are gone stand in <c>marks.json</c>, which is written before they go.
/// </summary>
public sealed class DiskBuffer
{
    private sealed record KeptMarks(long Through, Dictionary<string, long> Marks);

    private static ReadOnlySpan<byte> Magic => "SKV1"u8;

    private readonly string _folder;
    private readonly Lock _lock = new();
    private readonly SortedDictionary<long, SealedBatch> _batches = [];
    private readonly Dictionary<string, long> _marks = [];
    private long _next;
    private bool _forgotten;
    private long _marksThrough = -1;

    /// <summary>Opens a folder and takes up what a former run left in it.</summary>
    public DiskBuffer(string folder)
    {
        _folder = folder;
        Directory.CreateDirectory(folder);
        foreach (var unfinished in Directory.EnumerateFiles(folder, "*.part"))
            File.Delete(unfinished);
        if (File.Exists(MarksFile) && JsonSerializer.Deserialize<KeptMarks>(File.ReadAllText(MarksFile)) is { } kept)
        {
            (_marks, _marksThrough) = (kept.Marks, kept.Through);
            _next = kept.Through + 1;
        }
        foreach (var file in Directory.EnumerateFiles(folder, "*.batch").Order(StringComparer.Ordinal))
        {
            var parts = Path.GetFileNameWithoutExtension(file).Split('_');
            if (parts.Length != 3 || !long.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out var number))
                continue;
            var (header, _) = Split(File.ReadAllBytes(file));
            _batches[number] = new SealedBatch(file, parts[1], parts[2], new FileInfo(file).Length, header.Contents, header.Marks.Count > 0);
            if (number > _marksThrough)
                Apply(header.Marks);
            _next = Math.Max(_next, number + 1);
        }
    }

    private string MarksFile => Path.Combine(_folder, "marks.json");

    /// <summary>Bytes waiting.</summary>
    public long Bytes
    {
        get
        {
            lock (_lock)
                return _batches.Values.Sum(batch => batch.Length);
        }
    }

    /// <summary>Batches waiting.</summary>
    public int Count
    {
        get
        {
            lock (_lock)
                return _batches.Count;
        }
    }

    /// <summary>The batch to send next, or null.</summary>
    public SealedBatch? Oldest
    {
        get
        {
            lock (_lock)
                return _batches.Count == 0 ? null : _batches.First().Value;
        }
    }

    /// <summary>All batches that wait, the oldest first.</summary>
    public IReadOnlyList<SealedBatch> All
    {
        get
        {
            lock (_lock)
                return [.. _batches.Values];
        }
    }

    /// <summary>A read mark, or null where there is none.</summary>
    public long? Mark(string name)
    {
        lock (_lock)
            return _marks.TryGetValue(name, out var mark) ? mark : null;
    }

    /// <summary>Names of the read marks that begin so.</summary>
    public IReadOnlyList<string> Marks(string prefix)
    {
        lock (_lock)
            return [.. _marks.Keys.Where(name => name.StartsWith(prefix, StringComparison.Ordinal))];
    }

    /// <summary>Seals a batch with the marks it was read up to; it is on the disk when this returns.</summary>
    public SealedBatch Seal(string signal, ReadOnlySpan<byte> body, IReadOnlyList<BatchContent> contents, IReadOnlyDictionary<string, long?>? marks = null)
    {
        var key = Guid.NewGuid().ToString("N");
        var header = new BatchHeader(contents, marks ?? new Dictionary<string, long?>());
        var head = JsonSerializer.SerializeToUtf8Bytes(header);
        Span<byte> length = stackalloc byte[4];
        BinaryPrimitives.WriteInt32LittleEndian(length, head.Length);
        // One after the other, so that marks are passed in the order of the batches' numbers.
        lock (_lock)
        {
            var number = _next++;
            var path = Path.Combine(_folder, string.Create(CultureInfo.InvariantCulture, $"{number:D16}_{key}_{signal}.batch"));
            if (_forgotten)
                return new SealedBatch(path, key, signal, 0, contents, false);
            using (var file = new FileStream(path + ".part", FileMode.CreateNew, FileAccess.Write))
            {
                file.Write(Magic);
                file.Write(length);
                file.Write(head);
                file.Write(body);
                file.Flush(flushToDisk: true);
            }
            File.Move(path + ".part", path);
            var batch = new SealedBatch(path, key, signal, 8 + head.Length + body.Length, contents, header.Marks.Count > 0);
            _batches[number] = batch;
            Apply(header.Marks);
            return batch;
        }
    }

    /// <summary>Takes a batch out: accepted, or given up.</summary>
    public void Remove(SealedBatch batch)
    {
        var number = long.Parse(Path.GetFileName(batch.Path).Split('_')[0], CultureInfo.InvariantCulture);
        lock (_lock)
        {
            if (_forgotten)
                return;
            if (batch.Marked && number > _marksThrough)
                KeepMarks();
            _batches.Remove(number);
        }
        File.Delete(batch.Path);
    }

    /// <summary>Gives up the oldest batches until no more than the limit is kept.</summary>
    /// <returns>What was given up.</returns>
    public IReadOnlyList<SealedBatch> TrimTo(long limit)
    {
        var given = new List<SealedBatch>();
        while (Bytes > limit && Oldest is { } oldest)
        {
            Remove(oldest);
            given.Add(oldest);
        }
        return given;
    }

    /// <summary>Takes its folder off the disk with all that is in it. What is sealed from now on is dropped.</summary>
    /// <returns>How many batches were waiting.</returns>
    public int Forget()
    {
        lock (_lock)
        {
            _forgotten = true;
            var waiting = _batches.Count;
            _batches.Clear();
            _marks.Clear();
            foreach (var file in Directory.EnumerateFiles(_folder))
                File.Delete(file);
            // The folder itself may be a mount, which cannot be taken away from inside.
            foreach (var folder in Directory.EnumerateDirectories(_folder).Where(folder => !Directory.EnumerateFileSystemEntries(folder).Any()))
                Directory.Delete(folder);
            return waiting;
        }
    }

    /// <summary>Header and body of a batch's file.</summary>
    internal static (BatchHeader Header, ReadOnlyMemory<byte> Body) Split(byte[] file)
    {
        var none = new BatchHeader([], new Dictionary<string, long?>());
        if (!file.AsSpan().StartsWith(Magic) || file.Length < 8)
            return (none, file);
        var length = BinaryPrimitives.ReadInt32LittleEndian(file.AsSpan(4));
        return length < 0 || length > file.Length - 8 ? (none, file) : (JsonSerializer.Deserialize<BatchHeader>(file.AsSpan(8, length)) ?? none, file.AsMemory(8 + length));
    }

    private void Apply(IReadOnlyDictionary<string, long?> marks)
    {
        foreach (var (name, mark) in marks)
            if (mark is { } value)
                _marks[name] = value;
            else
                _marks.Remove(name);
    }

    private void KeepMarks()
    {
        using (var file = new FileStream(MarksFile + ".new", FileMode.Create, FileAccess.Write))
        {
            JsonSerializer.Serialize(file, new KeptMarks(_next - 1, _marks));
            file.Flush(flushToDisk: true);
        }
        File.Move(MarksFile + ".new", MarksFile, overwrite: true);
        _marksThrough = _next - 1;
    }
}
