using System.Globalization;

namespace Skevin.Agent.Buffer;

/// <summary>A sealed batch on disk.</summary>
/// <param name="Path">Its file.</param>
/// <param name="Key">Its id, sent as <c>Idempotency-Key</c>.</param>
/// <param name="Signal"><c>metrics</c> or <c>logs</c>.</param>
/// <param name="Length">Bytes.</param>
public sealed record SealedBatch(string Path, string Key, string Signal, long Length);

/// <summary>
/// Batches on their way, one file each, oldest first. A batch is written beside its place, flushed to the disk and then
/// renamed, so that a kill leaves either a whole batch or none.
/// </summary>
public sealed class DiskBuffer
{
    private readonly string _folder;
    private readonly Lock _lock = new();
    private readonly SortedDictionary<long, SealedBatch> _batches = [];
    private long _next;

    /// <summary>Opens a folder and takes up what a former run left in it.</summary>
    public DiskBuffer(string folder)
    {
        _folder = folder;
        Directory.CreateDirectory(folder);
        foreach (var unfinished in Directory.EnumerateFiles(folder, "*.part"))
            File.Delete(unfinished);
        foreach (var file in Directory.EnumerateFiles(folder, "*.batch"))
        {
            var parts = Path.GetFileNameWithoutExtension(file).Split('_');
            if (parts.Length == 3 && long.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out var number))
            {
                _batches[number] = new SealedBatch(file, parts[1], parts[2], new FileInfo(file).Length);
                _next = Math.Max(_next, number + 1);
            }
        }
    }

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

    /// <summary>Seals a batch; it is on the disk when this returns.</summary>
    public SealedBatch Seal(string signal, ReadOnlySpan<byte> body)
    {
        var key = Guid.NewGuid().ToString("N");
        long number;
        lock (_lock)
            number = _next++;
        var path = Path.Combine(_folder, string.Create(CultureInfo.InvariantCulture, $"{number:D16}_{key}_{signal}.batch"));
        using (var file = new FileStream(path + ".part", FileMode.CreateNew, FileAccess.Write))
        {
            file.Write(body);
            file.Flush(flushToDisk: true);
        }
        File.Move(path + ".part", path);
        var batch = new SealedBatch(path, key, signal, body.Length);
        lock (_lock)
            _batches[number] = batch;
        return batch;
    }

    /// <summary>Takes a batch out: accepted, or given up.</summary>
    public void Remove(SealedBatch batch)
    {
        lock (_lock)
            _batches.Remove(long.Parse(Path.GetFileName(batch.Path).Split('_')[0], CultureInfo.InvariantCulture));
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
}
