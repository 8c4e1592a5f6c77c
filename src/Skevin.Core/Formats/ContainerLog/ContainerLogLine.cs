using System.Globalization;
using System.Text;

namespace Skevin.Core.Formats.ContainerLog;

/// <summary>A line of a container's log file: <c>&lt;RFC 3339 time with nanoseconds&gt; stdout|stderr F|P &lt;message&gt;</c>. Source: container runtime interface, log format.</summary>
/// <param name="Time">Nanoseconds since the epoch.</param>
/// <param name="Stderr">Whether it came from the error stream.</param>
/// <param name="Partial">Whether the message goes on in the stream's next line.</param>
/// <param name="Message">The message, or its part.</param>
public readonly record struct ContainerLogLine(long Time, bool Stderr, bool Partial, string Message)
{
    /// <summary>Reads a line without its line break; null where it is none.</summary>
    public static ContainerLogLine? Read(ReadOnlySpan<byte> line)
    {
        if (line.Length > 0 && line[^1] == (byte)'\r')
            line = line[..^1];
        var blank = line.IndexOf((byte)' ');
        if (blank is < 20 or > 35 || Nanoseconds(line[..blank]) is not { } time)
            return null;
        var rest = line[(blank + 1)..];
        var stderr = rest.StartsWith("stderr "u8);
        if (!stderr && !rest.StartsWith("stdout "u8))
            return null;
        rest = rest[7..];
        // The tag may hold several parts joined by colons; the first says whether the message is whole.
        var end = rest.IndexOf((byte)' ');
        var tag = end < 0 ? rest : rest[..end];
        if (tag.Length == 0 || tag[0] is not ((byte)'F' or (byte)'P') || (tag.Length > 1 && tag[1] != (byte)':'))
            return null;
        return new ContainerLogLine(time, stderr, tag[0] == (byte)'P', end < 0 ? "" : Encoding.UTF8.GetString(rest[(end + 1)..]));
    }

    /// <summary>Writes a line with its line break.</summary>
    public static string Write(long time, bool stderr, bool partial, string message)
    {
        var moment = DateTimeOffset.FromUnixTimeMilliseconds(time / 1_000_000).UtcDateTime;
        return string.Create(CultureInfo.InvariantCulture, $"{moment:yyyy-MM-ddTHH:mm:ss}.{time % 1_000_000_000:D9}Z {(stderr ? "stderr" : "stdout")} {(partial ? 'P' : 'F')} {message}\n");
    }

    // RFC 3339 with up to nine digits of the second; the framework's own parser stops at seven.
    private static long? Nanoseconds(ReadOnlySpan<byte> text)
    {
        if (text.Length < 20 || text[10] != (byte)'T')
            return null;
        Span<char> head = stackalloc char[19];
        for (var i = 0; i < 19; i++)
            head[i] = (char)text[i];
        if (!DateTime.TryParseExact(head, "yyyy-MM-ddTHH:mm:ss", CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal | DateTimeStyles.AdjustToUniversal, out var moment))
            return null;
        var (at, part, digits) = (19, 0L, 0);
        if (text[at] == (byte)'.')
            for (at++; at < text.Length && char.IsAsciiDigit((char)text[at]); at++)
                if (digits < 9)
                    (part, digits) = (part * 10 + text[at] - '0', digits + 1);
        for (; digits < 9; digits++)
            part *= 10;
        if (at >= text.Length)
            return null;
        var offset = 0;
        if (text[at] is (byte)'+' or (byte)'-')
        {
            if (text.Length != at + 6 || text[at + 3] != (byte)':' || !Two(text[(at + 1)..], out var hours) || !Two(text[(at + 4)..], out var minutes))
                return null;
            offset = (hours * 60 + minutes) * (text[at] == (byte)'-' ? -1 : 1);
        }
        else if (text[at] != (byte)'Z' || text.Length != at + 1)
            return null;
        var seconds = (moment.Ticks - DateTime.UnixEpoch.Ticks) / TimeSpan.TicksPerSecond - offset * 60L;
        // Nanoseconds in 64 bits reach from 1678 to 2262.
        return seconds is > -9_000_000_000 and < 9_000_000_000 ? seconds * 1_000_000_000 + part : null;
    }

    private static bool Two(ReadOnlySpan<byte> text, out int number)
    {
        number = 0;
        if (text.Length < 2 || !char.IsAsciiDigit((char)text[0]) || !char.IsAsciiDigit((char)text[1]))
            return false;
        number = (text[0] - '0') * 10 + text[1] - '0';
        return true;
    }
}
