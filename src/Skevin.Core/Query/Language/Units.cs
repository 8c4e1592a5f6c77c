using System.Globalization;

namespace Skevin.Core.Query.Language;

/// <summary>Suffixes of quantities and their UCUM units.</summary>
public static class Units
{
    /// <summary>Suffix → factor and UCUM base unit. <c>m</c> is minutes, <c>Mi</c> is 2^20, <c>M</c> 10^6.</summary>
    public static readonly IReadOnlyDictionary<string, (double Factor, string Unit)> Suffixes =
        new Dictionary<string, (double, string)>
        {
            ["ns"] = (1e-9, "s"),
            ["us"] = (1e-6, "s"),
            ["ms"] = (1e-3, "s"),
            ["s"] = (1, "s"),
            ["m"] = (60, "s"),
            ["min"] = (60, "s"),
            ["h"] = (3600, "s"),
            ["d"] = (86400, "s"),
            ["B"] = (1, "By"),
            ["By"] = (1, "By"),
            ["kB"] = (1e3, "By"),
            ["MB"] = (1e6, "By"),
            ["GB"] = (1e9, "By"),
            ["TB"] = (1e12, "By"),
            ["KiB"] = (1024, "By"),
            ["MiB"] = (1048576, "By"),
            ["GiB"] = (1073741824, "By"),
            ["TiB"] = (1099511627776, "By"),
            ["%"] = (0.01, "1"),
            ["core"] = (1, "{core}"),
            ["cores"] = (1, "{core}"),
            ["Cel"] = (1, "Cel"),
        };

    /// <summary>A duration of whole milliseconds, or null where the suffix is not one of time.</summary>
    public static TimeSpan? Duration(double number, string suffix) =>
        Suffixes.TryGetValue(suffix, out var known) && known.Unit == "s" && number * known.Factor is > 0 and < 1e9
            ? TimeSpan.FromMilliseconds(Math.Round(number * known.Factor * 1000))
            : null;

    /// <summary>The shortest exact way to write a duration: <c>90s</c>, <c>5m</c>, <c>2h</c>.</summary>
    public static string Write(TimeSpan duration)
    {
        var ms = (long)duration.TotalMilliseconds;
        foreach (var (length, suffix) in new[] { (86_400_000L, "d"), (3_600_000L, "h"), (60_000L, "m"), (1000L, "s") })
            if (ms % length == 0)
                return (ms / length).ToString(CultureInfo.InvariantCulture) + suffix;
        return ms.ToString(CultureInfo.InvariantCulture) + "ms";
    }

    /// <summary>A bound as a person would write it: with a unit the language knows where there is one, else a bare number in the enquiry's unit.</summary>
    public static string WriteBound(double number, string unit)
    {
        static string Plain(double value) => Math.Round(value, 9).ToString("0.#########", CultureInfo.InvariantCulture);
        var (suffix, factor) = unit switch
        {
            "s" => Math.Abs(number) < 1 ? ("ms", 1e-3) : ("s", 1),
            "By" => Math.Abs(number) >= 1 << 20 ? ("MiB", 1 << 20) : Math.Abs(number) >= 1024 ? ("KiB", 1024) : ("", 1.0),
            _ => ("", 1.0),
        };
        return Plain(number / factor) + suffix;
    }

    /// <summary>Whether a text is a number with a unit the language knows, or without one.</summary>
    public static bool IsQuantity(string text, out string? error) => Quantity(text, out _, out error) is not null;

    /// <summary>A bound as a person writes it, in the unit of what it is compared with.</summary>
    /// <param name="text">A number, or a number with a suffix.</param>
    /// <param name="unit">UCUM unit of the enquiry.</param>
    /// <param name="number">The bound in that unit.</param>
    /// <param name="error">What is wrong, or null.</param>
    public static bool TryBound(string text, string unit, out double number, out string? error)
    {
        number = 0;
        if (Quantity(text, out var sign, out error) is not { } token)
            return false;
        if (token.Text.Length == 0)
        {
            number = sign * token.Number;
            return true;
        }
        var known = Suffixes[token.Text];
        // "as percent" gives hundredths; a share may be written as one or the other.
        if (known.Unit == "1" && unit == "%")
            known = (known.Factor * 100, unit);
        if (known.Unit != unit)
        {
            var likely = Suffixes.FirstOrDefault(pair => pair.Value.Unit == unit).Key;
            error = $"'{text}' is in {known.Unit}, but the enquiry is in {(unit.Length == 0 ? "no unit" : unit)}"
                + (likely is null ? "." : $"; write for example {token.Number.ToString(CultureInfo.InvariantCulture)}{likely}.");
            return false;
        }
        number = sign * token.Number * known.Factor;
        return true;
    }

    private static Token? Quantity(string text, out int sign, out string? error)
    {
        var trimmed = text.Trim();
        (sign, error) = (trimmed.StartsWith('-') ? -1 : 1, null);
        List<Token> tokens;
        try
        {
            tokens = Lexer.Read(trimmed.TrimStart('-'));
        }
        catch (EnquiryException)
        {
            tokens = [];
        }
        if (tokens is not [{ Kind: TokenKind.Number } token, _])
        {
            error = $"'{text}' is not a number with an optional unit, such as 0.8 or 400ms.";
            return null;
        }
        if (token.Text.Length > 0 && !Suffixes.ContainsKey(token.Text))
        {
            error = $"'{token.Text}' is not a known unit.";
            return null;
        }
        return token;
    }
}
