using System.IO.Compression;
using System.Security.Cryptography;

namespace Skevin.Agent.Collection;

/// <summary>
/// A log file that is known by its first line, so that it is the same file under the name it is rotated to. It is held open while it
/// is read: under its name there may soon be another.
/// </summary>
/// <param name="Stream">Its bytes.</param>
/// <param name="Mark">Under which the read mark is kept.</param>
/// <param name="Length">Bytes it has now; no bound for a packed one.</param>
/// <param name="Packed">Whether it is packed by gzip.</param>
internal sealed record MarkedFile(FileStream Stream, string Mark, long Length, bool Packed) : IDisposable
{
    private const int LongestFirstLine = 4096;

    /// <inheritdoc/>
    public void Dispose() => Stream.Dispose();

    /// <summary>Opens one; null where it is not there any more, is being packed, or has no whole first line yet.</summary>
    /// <param name="path">Where it is.</param>
    /// <param name="key">What its mark begins with.</param>
    public static MarkedFile? Open(string path, string key)
    {
        try
        {
            var stream = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
            var file = new MarkedFile(stream, "", stream.Length, path.EndsWith(".gz", StringComparison.Ordinal));
            if (file.MarkOf(key) is { } mark)
                return file with { Mark = mark, Length = file.Packed ? long.MaxValue : file.Length };
            file.Dispose();
        }
        catch (Exception trouble) when (trouble is FileNotFoundException or InvalidDataException)
        {
            // Rotated between listing and opening, or being packed just now: found in the next pass.
        }
        return null;
    }

    /// <summary>Whole lines from an offset on, with the offset behind each.</summary>
    /// <param name="offset">Where to begin.</param>
    /// <param name="most">About how many bytes.</param>
    /// <param name="cut">Whether there is more.</param>
    public List<(ReadOnlyMemory<byte> Line, long End)> Lines(long offset, long most, out bool cut)
    {
        cut = false;
        var lines = new List<(ReadOnlyMemory<byte>, long)>();
        var stream = FromStart();
        if (Packed)
        {
            // Packed files cannot be entered in the middle.
            var skip = new byte[65536];
            for (var left = offset; left > 0;)
            {
                var got = stream.Read(skip, 0, (int)Math.Min(left, skip.Length));
                if (got == 0)
                    return lines;
                left -= got;
            }
        }
        else
        {
            stream.Seek(offset, SeekOrigin.Begin);
        }
        var bytes = new byte[Math.Max(LongestFirstLine * 16, most)];
        var count = stream.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
        cut = count == bytes.Length;
        var from = 0;
        while (from < count && bytes.AsSpan(from, count - from).IndexOf((byte)'\n') is var end && end >= 0)
        {
            lines.Add((bytes.AsMemory(from, end), offset + from + end + 1));
            from += end + 1;
        }
        // A line longer than a whole pass is passed over in pieces, as lines of a strange form.
        if (cut && from == 0)
            lines.Add((bytes.AsMemory(0, count), offset + count));
        return lines;
    }

    private Stream FromStart()
    {
        Stream.Position = 0;
        return Packed ? new GZipStream(Stream, CompressionMode.Decompress, leaveOpen: true) : Stream;
    }

    // A file without a whole first line is not known yet; an endless first line is known by its beginning.
    private string? MarkOf(string key)
    {
        var first = new byte[LongestFirstLine];
        var count = FromStart().ReadAtLeast(first, first.Length, throwOnEndOfStream: false);
        var end = first.AsSpan(0, count).IndexOf((byte)'\n');
        return end < 0 && count < first.Length ? null : key + Convert.ToHexString(SHA256.HashData(first.AsSpan(0, end < 0 ? count : end)))[..16];
    }
}
