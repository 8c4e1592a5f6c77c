using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using Skevin.Core.Query.Run;

namespace Skevin.Core.Query.Language;

/// <summary>
/// A pattern of <c>parse</c>: literal text with fields in braces, such as <c>sold lot {lot} for {price:number} in {took:duration}</c>.
/// It is found anywhere in a text; a field takes as little as fits, the last one at the end of the pattern takes the rest of the line.
/// <c>{}</c> passes over text, <c>{{</c> and <c>}}</c> are braces. Matching takes time linear in the text.
/// </summary>
public sealed class TextPattern
{
    /// <summary>Types a field may have, with the UCUM unit of their numbers; null for text.</summary>
    public static readonly IReadOnlyDictionary<string, string?> Types = new Dictionary<string, string?> { ["text"] = null, ["word"] = null, ["number"] = "1", ["duration"] = "s", ["size"] = "By" };

    private const string Digits = @"\d+(?:\.\d+)?";
    private static readonly string DurationPart = $"{Digits}(?:ns|us|µs|ms|min|s|m|h|d)";
    private static readonly Regex Quantity = new($@"({Digits})\s?([a-zµA-Z]+)", RegexOptions.NonBacktracking | RegexOptions.CultureInvariant);

    private readonly Regex _regex;

    private TextPattern(Regex regex, IReadOnlyList<(string Name, string Type)> found) => (_regex, Fields) = (regex, found);

    /// <summary>Names and types of the fields, in order.</summary>
    public IReadOnlyList<(string Name, string Type)> Fields { get; }

    /// <summary>What is wrong with a pattern; null where it can be used.</summary>
    public static string? Wrong(string pattern) => Read(pattern, out _, out _);

    /// <summary>Reads a pattern that <see cref="Wrong"/> finds nothing in.</summary>
    /// <exception cref="FormatException">It cannot be used.</exception>
    public static TextPattern Compile(string pattern) => Read(pattern, out var regex, out var found) is { } wrong
        ? throw new FormatException(wrong)
        : new TextPattern(new Regex(regex, RegexOptions.NonBacktracking | RegexOptions.CultureInvariant), found);

    /// <summary>The fields' values in a text; null where the pattern is not found in it.</summary>
    public FieldValue[]? Match(string text)
    {
        var match = _regex.Match(text);
        return match.Success ? [.. Fields.Select((field, i) => Value(match.Groups[i + 1].Value, field.Type))] : null;
    }

    private static string? Read(string pattern, out string regex, out List<(string Name, string Type)> found)
    {
        var written = new StringBuilder();
        (regex, found) = ("", []);
        var behindField = false;
        for (var at = 0; at < pattern.Length; at++)
        {
            var c = pattern[at];
            if (c is '{' or '}' && at + 1 < pattern.Length && pattern[at + 1] == c)
            {
                at++;
            }
            else if (c == '}')
            {
                return "A '}' without '{' before it; as text it is written }}.";
            }
            else if (c == '{')
            {
                var end = pattern.IndexOf('}', at);
                if (end < 0)
                    return "A '{' is not closed; as text it is written {{.";
                if (behindField)
                    return "Between two fields there must be some text.";
                var parts = pattern[(at + 1)..end].Split(':', 2);
                var (name, type) = (parts[0].Trim(), parts.Length > 1 ? parts[1].Trim() : "text");
                if (!Types.ContainsKey(type))
                    return $"'{type}' is not a type of field; there are {string.Join(", ", Types.Keys)}.";
                if (name.Length > 0 && Formatter.Name(name) != name)
                    return $"'{name}' is not a name: letters, digits, dots and underscores.";
                if (found.Any(field => field.Name == name && name.Length > 0))
                    return $"There are two fields named {name}.";
                written.Append(name.Length > 0 ? "(" : "(?:").Append(Piece(type, end == pattern.Length - 1)).Append(')');
                if (name.Length > 0)
                    found.Add((name, type));
                (at, behindField) = (end, true);
                continue;
            }
            written.Append(Regex.Escape(c.ToString()));
            behindField = false;
        }
        regex = written.ToString();
        return found.Count == 0 ? "The pattern names no field." : null;
    }

    private static string Piece(string type, bool last) => type switch
    {
        "word" => @"\S+",
        "number" => $"[-+]?{Digits}(?:[eE][-+]?\\d+)?",
        "duration" => $"-?(?:{DurationPart})+",
        "size" => $@"{Digits}\s?(?:[kKMGT]i?)?(?:B|By)",
        _ => last ? ".*" : ".*?",
    };

    private static FieldValue Value(string text, string type)
    {
        if (type is "text" or "word")
            return FieldValue.Of(text);
        if (type == "number")
            return FieldValue.Of(double.Parse(text, NumberStyles.Float, CultureInfo.InvariantCulture));
        var sum = 0.0;
        foreach (Match part in Quantity.Matches(text))
            sum += double.Parse(part.Groups[1].Value, CultureInfo.InvariantCulture) * Factor(part.Groups[2].Value);
        return FieldValue.Of(text[0] == '-' ? -sum : sum);
    }

    private static double Factor(string suffix) => suffix switch
    {
        "µs" => 1e-6,
        "KB" => 1e3,
        _ => Units.Suffixes.TryGetValue(suffix.EndsWith("By", StringComparison.Ordinal) ? suffix[..^1] : suffix, out var known) ? known.Factor : double.NaN,
    };
}
