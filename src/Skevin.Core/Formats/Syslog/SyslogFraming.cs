using System.Globalization;
using System.Text;

namespace Skevin.Core.Formats.Syslog;

/// <summary>
/// Cuts a TCP stream into messages: each with its length before it, or each ended by a line break, told apart by its first character. Source: RFC 6587 section 3.4.
/// </summary>
public sealed class SyslogFraming
{
    /// <summary>Longest message, bytes. RFC 5424 asks for 2048 at least and 8192 where one can.</summary>
    public const int Longest = 64 * 1024;

    private byte[] _kept = [];

    /// <summary>Takes what came and gives the messages that are whole.</summary>
    /// <exception cref="FormatException">The stream cannot be cut any further: a message is longer than <see cref="Longest"/>, or its length is no number. The connection is of no more use.</exception>
    public IReadOnlyList<byte[]> Take(ReadOnlySpan<byte> came)
    {
        byte[] all = [.. _kept, .. came];
        var messages = new List<byte[]>();
        var at = 0;
        while (at < all.Length)
        {
            var rest = all.AsSpan(at);
            if (rest[0] is (byte)'\n' or (byte)'\r' or 0)
            {
                at++;
                continue;
            }
            if (char.IsAsciiDigit((char)rest[0]))
            {
                var blank = rest.IndexOf((byte)' ');
                if (blank < 0 && rest.Length < 7)
                    break;
                if (blank is < 1 or > 6 || !int.TryParse(Encoding.ASCII.GetString(rest[..blank]), NumberStyles.None, CultureInfo.InvariantCulture, out var length) || length is < 1 or > Longest)
                    throw new FormatException($"a message's length is a number from 1 to {Longest} and a blank");
                if (rest.Length < blank + 1 + length)
                    break;
                messages.Add(rest.Slice(blank + 1, length).ToArray());
                at += blank + 1 + length;
            }
            else
            {
                var end = rest.IndexOf((byte)'\n');
                if (end < 0)
                    break;
                messages.Add(rest[..end].TrimEnd((byte)'\r').ToArray());
                at += end + 1;
            }
        }
        _kept = all[at..];
        return _kept.Length > Longest + 8 ? throw new FormatException($"a message is longer than {Longest} bytes") : messages;
    }
}
