using System.Globalization;

namespace Skevin.Core.Formats.ContainerLog;

/// <summary>The time a line begins with. Source of the form: RFC 3339, section 5.6; a blank in place of the T, which its note allows.</summary>
public static class LineTime
{
    private static readonly string[] Forms = [.. new[] { "", ".FFFFFFF" }.Select(part => $"yyyy-MM-dd'T'HH:mm:ss{part}K")];

    /// <summary>The time at the beginning of a text; null where there is none, or its zone is not said.</summary>
    public static DateTimeOffset? Read(string? text)
    {
        const int Date = 10;
        if (text is null || text.Length < 20 || !char.IsAsciiDigit(text[0]) || text[Date] is not ('T' or 't' or ' '))
            return null;
        var end = Date + 1;
        while (end < text.Length && (char.IsAsciiDigit(text[end]) || text[end] is ':' or '.' or '+' or '-'))
            end++;
        if (end < text.Length && text[end] is 'Z' or 'z')
            end++;
        else if (text.AsSpan(Date, end - Date).IndexOfAny('+', '-') < 0)
            return null;
        // More digits than the clock of .NET has are cut.
        var span = text.AsSpan(0, end);
        var point = span.IndexOf('.');
        var digits = point < 0 ? 0 : span[(point + 1)..].IndexOfAnyExceptInRange('0', '9') is var stop && stop < 0 ? span.Length - point - 1 : span[(point + 1)..].IndexOfAnyExceptInRange('0', '9');
        var whole = digits > 7 ? string.Concat(span[..(point + 8)], span[(point + 1 + digits)..]) : span.ToString();
        return DateTimeOffset.TryParseExact(whole[..Date] + 'T' + whole[(Date + 1)..].ToUpperInvariant(), Forms, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var at) ? at : null;
    }
}
