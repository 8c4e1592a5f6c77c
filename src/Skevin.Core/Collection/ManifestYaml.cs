using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;
using YamlDotNet.Serialization;

namespace Skevin.Core.Collection;

/// <summary>Manifests as the YAML a person reads and can apply with any client of the cluster API.</summary>
public static class ManifestYaml
{
    /// <summary>Documents joined by <c>---</c>.</summary>
    public static string Write(IEnumerable<Manifest> manifests)
    {
        var serializer = new SerializerBuilder().WithQuotingNecessaryStrings().WithIndentedSequences().Build();
        return string.Join("---\n", manifests.Select(manifest => serializer.Serialize(Plain(manifest.Body)!)));
    }

    private static object? Plain(JsonNode? node) => node switch
    {
        JsonObject map => map.ToDictionary(pair => pair.Key, pair => Plain(pair.Value)),
        JsonArray list => list.Select(Plain).ToList(),
        JsonValue value => value.GetValueKind() switch
        {
            JsonValueKind.True => true,
            JsonValueKind.False => false,
            JsonValueKind.Number => long.TryParse(value.ToJsonString(), out var whole) ? whole : double.Parse(value.ToJsonString(), CultureInfo.InvariantCulture),
            _ => value.GetValue<string>(),
        },
        _ => null,
    };
}
