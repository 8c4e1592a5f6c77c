using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Skevin.Core.Alarms.Telling;

/// <summary>
/// Messages in the form another program takes: JSON with names in braces, such as <c>{"text": "{transition}: {rule}"}</c>. Names stand inside
/// of texts and are written as JSON writes texts, so that no value can change the form.
/// </summary>
public static class HookTemplate
{
    /// <summary>Most characters of a template.</summary>
    public const int Longest = 4000;

    /// <summary>Names that may stand in braces.</summary>
    public static readonly IReadOnlyList<string> Names = ["id", "rule", "transition", "severity", "cluster", "labels", "value", "worst", "unit", "at", "raisedAt", "runbook", "drill", "flapping", "link", "count", "all"];

    private static readonly JsonSerializerOptions Loose = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>What is wrong with a template, or null.</summary>
    public static string? Problem(string template)
    {
        if (template.Length > Longest)
            return $"A template has at most {Longest} characters.";
        if (Places(template).FirstOrDefault(place => !Names.Contains(place.Name)) is { Name: { } unknown })
            return $"There is no {{{unknown}}}; there are {string.Join(", ", Names.Select(name => $"{{{name}}}"))}.";
        try
        {
            using var read = JsonDocument.Parse(Fill(template, name => $"\"{name}\\\n"));
            return null;
        }
        catch (JsonException wrong)
        {
            return $"It is not JSON when its names are filled in: line {wrong.LineNumber + 1}, {wrong.Message.Split(". LineNumber")[0]}. Names stand inside of texts, for example {{\"text\": \"{{rule}}\"}}.";
        }
    }

    /// <summary>Fills a template in.</summary>
    /// <param name="template">One without <see cref="Problem"/>.</param>
    /// <param name="value">The text of a name.</param>
    public static string Fill(string template, Func<string, string> value)
    {
        var text = new StringBuilder();
        var at = 0;
        foreach (var (from, to, name) in Places(template))
        {
            text.Append(template, at, from - at);
            // Without the quotes: they are the template's own.
            text.Append(JsonSerializer.Serialize(value(name), Loose)[1..^1]);
            at = to;
        }
        return text.Append(template, at, template.Length - at).ToString();
    }

    /// <summary>The texts of one or several messages that are sent as one.</summary>
    /// <param name="id">Under which they go.</param>
    /// <param name="messages">Their bodies, the oldest first.</param>
    /// <param name="link">Where the alarms are looked at.</param>
    public static Func<string, string> Texts(string id, IReadOnlyList<JsonNode> messages, string link) => name => name switch
    {
        "id" => id,
        "link" => link,
        "count" => messages.Count.ToString(System.Globalization.CultureInfo.InvariantCulture),
        "all" => string.Join("\n", messages.Select(Line)),
        "labels" => Labels(messages[0]),
        _ => messages[0][name] is { } found ? Text(found) : "",
    };

    /// <summary>A message in a line: what happened, how bad, where and at which value.</summary>
    public static string Line(JsonNode message)
    {
        string Of(string name) => message[name] is { } found ? Text(found) : "";
        var where = string.Join(", ", new[] { Labels(message), Of("cluster") }.Where(part => part.Length > 0));
        return $"{(Of("drill") == "true" ? "DRILL " : "")}{Of("severity")} {Of("transition")}: {Of("rule")}{(where.Length > 0 ? $" ({where})" : "")}{(Of("value").Length > 0 ? $", {Of("value")} {Of("unit")}".TrimEnd() : "")}{(Of("flapping") == "true" ? "; it comes and goes, so only its end will be told" : "")}";
    }

    private static string Labels(JsonNode message) => message["labels"] is JsonObject labels ? string.Join(", ", labels.Select(pair => pair.Value?.ToString())) : "";

    private static string Text(JsonNode node) => node.GetValueKind() == JsonValueKind.String ? node.GetValue<string>() : node.ToJsonString();

    // A brace that begins no name is one of JSON's own.
    private static IEnumerable<(int From, int To, string Name)> Places(string template)
    {
        for (var at = 0; at < template.Length; at++)
        {
            if (template[at] != '{')
                continue;
            var end = at + 1;
            while (end < template.Length && char.IsAsciiLetter(template[end]))
                end++;
            if (end == at + 1 || end >= template.Length || template[end] != '}')
                continue;
            yield return (at, end + 1, template[(at + 1)..end]);
            at = end;
        }
    }
}
