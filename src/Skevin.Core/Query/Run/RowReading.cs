using System.Globalization;
using System.Text.Json;
using Skevin.Core.Query.Language;

namespace Skevin.Core.Query.Run;

/// <summary>What <c>parse</c> makes of a text.</summary>
internal static class RowReading
{
    private const int MostFields = 200;

    /// <summary>A reader of texts: the fields found, or null where the text does not fit.</summary>
    public static Func<string, IReadOnlyDictionary<string, FieldValue>?> Of(ParseStep step)
    {
        if (step.Pattern is null)
            return Json;
        var pattern = TextPattern.Compile(step.Pattern);
        return text =>
        {
            if (pattern.Match(text) is not { } values)
                return null;
            var found = new Dictionary<string, FieldValue>(values.Length);
            for (var i = 0; i < values.Length; i++)
                found[pattern.Fields[i].Name] = values[i];
            return found;
        };
    }

    /// <summary>Units of the fields a step makes, as far as its text tells.</summary>
    public static IEnumerable<(string Field, string Unit)> Units(ParseStep step) =>
        step.Pattern is null ? [] : TextPattern.Compile(step.Pattern).Fields.Select(field => (field.Name, TextPattern.Types[field.Type] ?? ""));

    // Nested objects become dotted names; a list stays as it is written.
    private static Dictionary<string, FieldValue>? Json(string text)
    {
        var trimmed = text.AsSpan().Trim();
        if (trimmed.Length == 0 || trimmed[0] != '{')
            return null;
        try
        {
            using var document = JsonDocument.Parse(text);
            var found = new Dictionary<string, FieldValue>();
            Flatten("", document.RootElement, found);
            return found;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private static void Flatten(string prefix, JsonElement element, Dictionary<string, FieldValue> found)
    {
        foreach (var property in element.EnumerateObject())
        {
            if (found.Count >= MostFields)
                return;
            var name = prefix + property.Name;
            switch (property.Value.ValueKind)
            {
                case JsonValueKind.Object:
                    Flatten(name + ".", property.Value, found);
                    break;
                case JsonValueKind.Number when double.TryParse(property.Value.GetRawText(), NumberStyles.Float, CultureInfo.InvariantCulture, out var number) && double.IsFinite(number):
                    found[name] = FieldValue.Of(number);
                    break;
                case JsonValueKind.String:
                    found[name] = FieldValue.Of(property.Value.GetString());
                    break;
                case JsonValueKind.True or JsonValueKind.False:
                    found[name] = FieldValue.Of(property.Value.GetBoolean() ? "true" : "false");
                    break;
                case JsonValueKind.Array:
                    found[name] = FieldValue.Of(property.Value.GetRawText());
                    break;
            }
        }
    }
}
