using System.Text.Json;
using System.Text.Json.Nodes;

namespace Skevin.Command;

/// <summary>Orders a cluster by a file and follows it.</summary>
public static class PlaceOrder
{
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(1);

    /// <summary>Does it; 0 when the cluster is connected and is what was ordered, 1 where a stage failed or something differs.</summary>
    public static async Task<int> Run(Client client, string file)
    {
        JsonNode order;
        try
        {
            order = JsonNode.Parse(await File.ReadAllTextAsync(file)) ?? throw new JsonException("it is empty");
        }
        catch (Exception trouble) when (trouble is IOException or JsonException or UnauthorizedAccessException)
        {
            throw new CommandException($"{file} cannot be read as an order: {trouble.Message}", 0);
        }
        var review = (await client.Post("api/orders", order))!;
        foreach (var warning in review["warnings"]!.AsArray())
            Console.WriteLine($"note  {warning}");
        var said = new HashSet<string>();
        while (true)
        {
            var view = (await client.Get("api/orders"))!.AsArray().FirstOrDefault(one => (string?)one!["order"]!["name"] == (string?)order["name"])
                ?? throw new CommandException("The order was removed.", 0);
            foreach (var stage in view["stages"]!.AsArray().Where(stage => (string?)stage!["state"] is "done" or "failed"))
                if (said.Add($"{stage!["name"]}{stage["state"]}"))
                    Console.WriteLine($"{stage["state"],-6}  {stage["name"]}: {stage["detail"]}");
            if (view["stages"]!.AsArray().Any(stage => (string?)stage!["state"] == "failed"))
                return 1;
            if (view["comparison"]!.AsArray() is { Count: > 0 } rows)
            {
                foreach (var row in rows)
                    Console.WriteLine($"{((bool)row!["matches"]! ? "same" : "DIFFERS"),-7}  {row["what"]}: ordered {row["ordered"]}, found {row["found"]}");
                return rows.All(row => (bool)row!["matches"]!) ? 0 : 1;
            }
            await Task.Delay(Every);
        }
    }
}
