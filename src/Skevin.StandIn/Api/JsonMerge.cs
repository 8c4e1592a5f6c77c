using System.Text.Json.Nodes;

namespace Skevin.StandIn.Api;

/// <summary>
/// Server-side apply, in the part the agent's manifests need: maps are merged, lists of named things are merged by name, other
/// lists are replaced. Source: cluster documentation, "Server-Side Apply", merge strategy.
/// </summary>
public static class JsonMerge
{
    /// <summary>What is there, with what is applied laid over it.</summary>
    public static JsonNode? Apply(JsonNode? current, JsonNode? applied) => (current, applied) switch
    {
        (JsonObject old, JsonObject fresh) => Maps(old, fresh),
        (JsonArray old, JsonArray fresh) when Named(old) && Named(fresh) => Lists(old, fresh),
        _ => applied?.DeepClone(),
    };

    private static JsonObject Maps(JsonObject old, JsonObject fresh)
    {
        var merged = (JsonObject)old.DeepClone();
        foreach (var (name, value) in fresh)
            merged[name] = Apply(old[name], value);
        return merged;
    }

    // What is applied is the whole list of its owner; entries of others would be kept, but here there is one owner.
    private static JsonArray Lists(JsonArray old, JsonArray fresh)
    {
        var byName = old.ToDictionary(item => item!["name"]!.GetValue<string>());
        return new JsonArray([.. fresh.Select(item => Apply(byName.GetValueOrDefault(item!["name"]!.GetValue<string>()), item))]);
    }

    private static bool Named(JsonArray list) =>
        list.Count > 0 && list.All(item => item is JsonObject map && map["name"] is JsonValue) && list.DistinctBy(item => item!["name"]!.ToString()).Count() == list.Count;
}
