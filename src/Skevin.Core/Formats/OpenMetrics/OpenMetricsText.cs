using System.Globalization;
using System.Text;

namespace Skevin.Core.Formats.OpenMetrics;

/// <summary>
/// Reads OpenMetrics 1.0 text and, with <c>strict</c> off, the older plain text exposition it grew from (no <c># EOF</c>,
/// counters without <c>_total</c>, timestamps in milliseconds). Source: OpenMetrics specification, "Text format".
/// </summary>
public static class OpenMetricsText
{
    private static readonly string[] Suffixes =
        ["_total", "_created", "_bucket", "_count", "_sum", "_gcount", "_gsum", "_info"];

    /// <summary>Reads a whole exposition.</summary>
    /// <param name="text">The body.</param>
    /// <param name="strict">OpenMetrics 1.0 (<c># EOF</c> demanded) or the older form.</param>
    public static OpenMetricsReading Read(string text, bool strict = true)
    {
        var families = new List<OpenMetricsFamily>();
        var current = new Builder("", FamilyType.Unknown);
        var number = 0;
        var ended = false;
        foreach (var raw in text.AsSpan().EnumerateLines())
        {
            number++;
            var line = raw;
            if (ended)
            {
                if (line.IsEmpty)
                    continue;
                return new(families, $"line {number}: text after # EOF");
            }
            if (line.IsEmpty)
            {
                continue;
            }
            try
            {
                if (line[0] == '#')
                    ended = Comment(line, ref current, families);
                else
                    Sample(line, ref current, families, strict);
            }
            catch (FormatException wrong)
            {
                current.Finish(families);
                return new(families, $"line {number}: {wrong.Message}");
            }
        }
        current.Finish(families);
        return new(families, strict && !ended ? "the closing # EOF is missing: the exposition may be cut short" : null);
    }

    private sealed class Builder(string name, FamilyType type)
    {
        public string Name { get; } = name;
        public FamilyType Type { get; set; } = type;
        public string Unit { get; set; } = "";
        public string Help { get; set; } = "";
        public List<OpenMetricsSample> Samples { get; } = [];

        public void Finish(List<OpenMetricsFamily> families)
        {
            if (Samples.Count > 0 || (Name.Length > 0 && (Type != FamilyType.Unknown || Help.Length > 0 || Unit.Length > 0)))
                families.Add(new OpenMetricsFamily(Name, Type, Unit, Help, Samples));
        }
    }

    private static bool Comment(ReadOnlySpan<char> line, ref Builder current, List<OpenMetricsFamily> families)
    {
        if (line.TrimEnd().SequenceEqual("# EOF"))
            return true;
        var kind = line.StartsWith("# TYPE ") ? "TYPE" : line.StartsWith("# HELP ") ? "HELP" : line.StartsWith("# UNIT ") ? "UNIT" : "";
        if (kind.Length == 0)
            return false;
        var rest = line[7..];
        var space = rest.IndexOf(' ');
        var name = (space < 0 ? rest : rest[..space]).ToString();
        var value = space < 0 ? "" : rest[(space + 1)..].ToString();
        if (name.Length == 0)
            throw new FormatException($"# {kind} without a name");
        if (name != current.Name)
        {
            current.Finish(families);
            current = new Builder(name, FamilyType.Unknown);
        }
        switch (kind)
        {
            case "TYPE":
                current.Type = value.Trim() switch
                {
                    "gauge" => FamilyType.Gauge,
                    "counter" => FamilyType.Counter,
                    "histogram" => FamilyType.Histogram,
                    "gaugehistogram" => FamilyType.GaugeHistogram,
                    "summary" => FamilyType.Summary,
                    "info" => FamilyType.Info,
                    "stateset" => FamilyType.StateSet,
                    "unknown" or "untyped" => FamilyType.Unknown,
                    var other => throw new FormatException($"unknown type '{other}' of {name}"),
                };
                break;
            case "UNIT":
                current.Unit = value.Trim();
                break;
            default:
                current.Help = Unescape(value);
                break;
        }
        return false;
    }

    private static void Sample(
        ReadOnlySpan<char> line, ref Builder current, List<OpenMetricsFamily> families, bool strict)
    {
        var at = 0;
        var name = Name(line, ref at);
        var labels = Labels(line, ref at);
        Blank(line, ref at);
        var value = Number(Word(line, ref at));
        double? timestamp = null;
        OpenMetricsExemplar? exemplar = null;
        if (at < line.Length && line[at] == ' ')
        {
            at++;
            if (at < line.Length && line[at] != '#')
            {
                timestamp = Number(Word(line, ref at));
                if (!strict)
                    timestamp /= 1000;
                if (at < line.Length && line[at] == ' ')
                    at++;
            }
            if (at < line.Length && line[at] == '#')
            {
                at++;
                Blank(line, ref at);
                var exemplarLabels = Labels(line, ref at);
                Blank(line, ref at);
                var exemplarValue = Number(Word(line, ref at));
                double? exemplarTime = null;
                if (at < line.Length && line[at] == ' ')
                {
                    at++;
                    if (at < line.Length)
                        exemplarTime = Number(Word(line, ref at));
                }
                exemplar = new OpenMetricsExemplar(exemplarLabels, exemplarValue, exemplarTime);
            }
        }
        if (!line[at..].Trim().IsEmpty)
            throw new FormatException($"text after the value of {name}: '{line[at..].ToString()}'");

        var suffix = SuffixOf(name, current);
        if (suffix is null)
        {
            current.Finish(families);
            current = new Builder(name, FamilyType.Unknown);
            suffix = "";
        }
        current.Samples.Add(new OpenMetricsSample(suffix, labels, value, timestamp, exemplar));
    }

    private static string? SuffixOf(string name, Builder current)
    {
        if (current.Name.Length == 0)
            return null;
        if (name == current.Name)
            return "";
        if (!name.StartsWith(current.Name, StringComparison.Ordinal))
            return null;
        var suffix = name[current.Name.Length..];
        return Suffixes.Contains(suffix) ? suffix : null;
    }

    private static string Name(ReadOnlySpan<char> line, ref int at)
    {
        var start = at;
        while (at < line.Length && (char.IsAsciiLetterOrDigit(line[at]) || line[at] is '_' or ':' or '.'))
            at++;
        if (at == start || char.IsAsciiDigit(line[start]))
            throw new FormatException($"a metric name was expected at column {start + 1}");
        return line[start..at].ToString();
    }

    private static List<KeyValuePair<string, string>> Labels(ReadOnlySpan<char> line, ref int at)
    {
        var labels = new List<KeyValuePair<string, string>>();
        if (at >= line.Length || line[at] != '{')
            return labels;
        at++;
        while (at < line.Length && line[at] != '}')
        {
            while (at < line.Length && line[at] == ' ')
                at++;
            var name = Name(line, ref at);
            if (at + 1 >= line.Length || line[at] != '=' || line[at + 1] != '"')
                throw new FormatException($"'=\"' was expected after label {name} at column {at + 1}");
            at += 2;
            var value = new StringBuilder();
            while (at < line.Length && line[at] != '"')
            {
                if (line[at] == '\\' && at + 1 < line.Length)
                {
                    at++;
                    value.Append(line[at] switch { 'n' => '\n', '\\' => '\\', '"' => '"', var other => "\\" + other });
                }
                else
                {
                    value.Append(line[at]);
                }
                at++;
            }
            if (at >= line.Length)
                throw new FormatException($"the value of label {name} is not closed");
            at++;
            if (labels.Exists(pair => pair.Key == name))
                throw new FormatException($"label {name} stands twice");
            labels.Add(new(name, value.ToString()));
            if (at < line.Length && line[at] == ',')
                at++;
            else if (at < line.Length && line[at] != '}')
                throw new FormatException($"',' or '}}' was expected at column {at + 1}");
        }
        if (at >= line.Length)
            throw new FormatException("the labels are not closed");
        at++;
        return labels;
    }

    private static void Blank(ReadOnlySpan<char> line, ref int at)
    {
        if (at >= line.Length || line[at] != ' ')
            throw new FormatException($"a blank was expected at column {at + 1}");
        while (at < line.Length && line[at] == ' ')
            at++;
    }

    private static ReadOnlySpan<char> Word(ReadOnlySpan<char> line, ref int at)
    {
        var start = at;
        while (at < line.Length && line[at] != ' ')
            at++;
        return line[start..at];
    }

    private static double Number(ReadOnlySpan<char> word)
    {
        if (word.Equals("+Inf", StringComparison.OrdinalIgnoreCase) || word.Equals("Inf", StringComparison.OrdinalIgnoreCase)
            || word.Equals("+Infinity", StringComparison.OrdinalIgnoreCase))
            return double.PositiveInfinity;
        if (word.Equals("-Inf", StringComparison.OrdinalIgnoreCase) || word.Equals("-Infinity", StringComparison.OrdinalIgnoreCase))
            return double.NegativeInfinity;
        if (word.Equals("NaN", StringComparison.OrdinalIgnoreCase))
            return double.NaN;
        return double.TryParse(word, NumberStyles.Float, CultureInfo.InvariantCulture, out var number)
            ? number
            : throw new FormatException($"'{word.ToString()}' is not a number");
    }

    private static string Unescape(string text) =>
        text.Contains('\\') ? text.Replace("\\\\", "\u0001").Replace("\\n", "\n").Replace("\\\"", "\"").Replace('\u0001', '\\') : text;
}
