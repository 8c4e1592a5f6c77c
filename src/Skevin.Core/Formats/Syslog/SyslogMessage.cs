using System.Globalization;
using System.Text;

namespace Skevin.Core.Formats.Syslog;

/// <summary>A message of RFC 5424.</summary>
/// <param name="Facility">0 to 23.</param>
/// <param name="Severity">0 (emergency) to 7 (debug).</param>
/// <param name="Time">Nanoseconds since the epoch; null where the sender gave none.</param>
/// <param name="Host">Who sent it; null where it does not say.</param>
/// <param name="App">Its program.</param>
/// <param name="Process">Its process.</param>
/// <param name="Id">Type of the message.</param>
/// <param name="Data">Structured data: name and value of each parameter, the name with its element's id before it.</param>
/// <param name="Text">What it says.</param>
public sealed record SyslogMessage(
    int Facility, int Severity, long? Time, string? Host, string? App, string? Process, string? Id, IReadOnlyList<KeyValuePair<string, string>> Data, string Text)
{
    private const int MostParameters = 64;

    /// <summary>Reads one message. Source: RFC 5424 section 6.</summary>
    /// <exception cref="FormatException">It is no such message; says at which place.</exception>
    public static SyslogMessage Read(ReadOnlySpan<byte> bytes)
    {
        var at = 0;
        if (bytes.Length == 0 || bytes[0] != '<')
            throw new FormatException("a message begins with its priority in angle brackets");
        at++;
        var priority = Number(bytes, ref at, 3);
        if (priority is < 0 or > 191 || at >= bytes.Length || bytes[at++] != '>')
            throw new FormatException("the priority is a number from 0 to 191 in angle brackets");
        if (Number(bytes, ref at, 2) != 1 || at >= bytes.Length || bytes[at++] != ' ')
            throw new FormatException("after the priority version 1 and a blank are expected");
        var time = TimeOf(Word(bytes, ref at, 64, "time"));
        var (host, app, process, id) = (Word(bytes, ref at, 255, "host"), Word(bytes, ref at, 48, "program"), Word(bytes, ref at, 128, "process"), Word(bytes, ref at, 32, "message id"));
        var data = Structured(bytes, ref at);
        var text = bytes[at..];
        if (text.Length > 0)
        {
            if (text[0] != ' ')
                throw new FormatException($"character {at + 1}: a blank is expected between structured data and text");
            text = text[1..];
            // A byte order mark says that the text is UTF-8; without it that is assumed too. Source: RFC 5424 section 6.4.
            if (text.StartsWith(Encoding.UTF8.Preamble))
                text = text[3..];
        }
        return new(priority / 8, priority % 8, time, host, app, process, id, data, Encoding.UTF8.GetString(text).TrimEnd('\r', '\n', '\0'));
    }

    private static int Number(ReadOnlySpan<byte> bytes, ref int at, int digits)
    {
        var (number, begin) = (0, at);
        while (at < bytes.Length && at - begin < digits && char.IsAsciiDigit((char)bytes[at]))
            number = number * 10 + bytes[at++] - '0';
        return at == begin || (at - begin > 1 && bytes[begin] == '0') ? -1 : number;
    }

    // Printable ASCII up to a blank; "-" for none. Source: RFC 5424 section 6, PRINTUSASCII.
    private static string? Word(ReadOnlySpan<byte> bytes, ref int at, int longest, string what)
    {
        var begin = at;
        while (at < bytes.Length && bytes[at] is > 32 and < 127)
            at++;
        if (at == begin || at - begin > longest || at >= bytes.Length || bytes[at] != ' ')
            throw new FormatException($"character {begin + 1}: the {what} is up to {longest} printable characters and a blank");
        var word = Encoding.ASCII.GetString(bytes[begin..at]);
        at++;
        return word == "-" ? null : word;
    }

    // A restriction of RFC 3339: upper-case T and Z, up to six digits of the second. Source: RFC 5424 section 6.2.3.
    private static long? TimeOf(string? text)
    {
        if (text is null)
            return null;
        if (text.Length is < 20 or > 32 || text[10] != 'T' || text.Contains(',')
            || !DateTimeOffset.TryParseExact(text, ["yyyy-MM-ddTHH:mm:ssK", "yyyy-MM-ddTHH:mm:ss.FFFFFFK"], CultureInfo.InvariantCulture, DateTimeStyles.None, out var time))
            throw new FormatException($"the time '{text}' is not of the form 2003-10-11T22:14:15.003Z");
        return (time.UtcTicks - DateTime.UnixEpoch.Ticks) * 100;
    }

    private static List<KeyValuePair<string, string>> Structured(ReadOnlySpan<byte> bytes, ref int at)
    {
        var data = new List<KeyValuePair<string, string>>();
        if (at < bytes.Length && bytes[at] == '-')
        {
            at++;
            return data;
        }
        if (at >= bytes.Length || bytes[at] != '[')
            throw new FormatException($"character {at + 1}: structured data begins with [ or is -");
        while (at < bytes.Length && bytes[at] == '[')
        {
            at++;
            var element = Name(bytes, ref at);
            while (at < bytes.Length && bytes[at] == ' ')
            {
                at++;
                var name = Name(bytes, ref at);
                if (at + 1 >= bytes.Length || bytes[at] != '=' || bytes[at + 1] != '"')
                    throw new FormatException($"character {at + 1}: a parameter is written name=\"value\"");
                at += 2;
                var value = Value(bytes, ref at);
                if (data.Count < MostParameters)
                    data.Add(new($"{element}.{name}", value));
            }
            if (at >= bytes.Length || bytes[at] != ']')
                throw new FormatException($"character {at + 1}: an element of structured data ends with ]");
            at++;
        }
        return data;
    }

    private static string Name(ReadOnlySpan<byte> bytes, ref int at)
    {
        var begin = at;
        while (at < bytes.Length && bytes[at] is > 32 and < 127 and not ((byte)'=' or (byte)']' or (byte)'"'))
            at++;
        return at > begin && at - begin <= 32 ? Encoding.ASCII.GetString(bytes[begin..at]) : throw new FormatException($"character {begin + 1}: a name of up to 32 printable characters is expected");
    }

    // Quote, backslash and bracket are escaped; a backslash before anything else stands for itself. Source: RFC 5424 section 6.3.3.
    private static string Value(ReadOnlySpan<byte> bytes, ref int at)
    {
        var value = new List<byte>();
        for (; at < bytes.Length && bytes[at] != '"'; at++)
        {
            if (bytes[at] == '\\' && at + 1 < bytes.Length && bytes[at + 1] is (byte)'"' or (byte)'\\' or (byte)']')
                at++;
            else if (bytes[at] == ']')
                throw new FormatException($"character {at + 1}: ] in a value is written \\]");
            value.Add(bytes[at]);
        }
        if (at >= bytes.Length)
            throw new FormatException("a value does not end");
        at++;
        return Encoding.UTF8.GetString([.. value]);
    }
}
