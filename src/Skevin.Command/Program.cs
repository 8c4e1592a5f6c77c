using System.Globalization;
using System.Text.Json.Nodes;
using Skevin.Command;

string Setting(string variable, string fallback) => Environment.GetEnvironmentVariable(variable) is { Length: > 0 } value ? value : fallback;
const string Usage = """
    skevin ask 'ENQUIRY' [--last 1h] [--cluster NAME]   answer an enquiry as a table
    skevin arrivals CLUSTER                             what should arrive, and how it does
    skevin order FILE                                   order a cluster by its file, and follow it until it is connected
    skevin test-rules FILE…                             check rules and run their tests, without a server
    skevin apply-rules FILE [--cluster NAME]            put the rules of a file in force
    skevin set-up-demo KUBECONFIG CLUSTER HOOK          connect the practice cluster and roll a plan out

    Environment: SKEVIN_URL (default http://127.0.0.1:5180), SKEVIN_EMAIL, SKEVIN_PASSWORD
    """;
try
{
    if (args.Length == 0 || args[0] is "--help" or "-h")
    {
        Console.WriteLine(Usage);
        return args.Length == 0 ? 2 : 0;
    }
    if (args is ["test-rules", _, ..])
        return await CheckRules.Test(args[1..]);
    using var client = await Client.SignIn(new Uri(Setting("SKEVIN_URL", "http://127.0.0.1:5180")), Setting("SKEVIN_EMAIL", ""), Setting("SKEVIN_PASSWORD", ""));
    switch (args)
    {
        case ["ask", var text, .. var options]:
            await Ask(client, text, Option(options, "--last") ?? "1h", Option(options, "--cluster"));
            return 0;
        case ["arrivals", var cluster]:
            foreach (var source in (await client.Get("api/arrivals?cluster=" + Uri.EscapeDataString(cluster)))!["sources"]!.AsArray())
                Console.WriteLine($"{source!["state"],-9} {source["signal"],-8} {source["source"],-52} {source["received"]} of {source["expected"]} min  {source["cause"]}");
            return 0;
        case ["order", var file]:
            return await PlaceOrder.Run(client, file);
        case ["apply-rules", var file, .. var options]:
            return await CheckRules.Apply(client, file, Option(options, "--cluster"));
        case ["set-up-demo", var kubeconfig, var cluster, var hook]:
            await DemoSetUp.Run(client, kubeconfig, cluster, hook);
            return 0;
        default:
            Console.Error.WriteLine(Usage);
            return 2;
    }
}
catch (CommandException trouble)
{
    Console.Error.WriteLine("skevin: " + trouble.Message);
    return 1;
}

static string? Option(string[] options, string name) => Array.IndexOf(options, name) is >= 0 and var at && at + 1 < options.Length ? options[at + 1] : null;

static async Task Ask(Client client, string text, string last, string? cluster)
{
    var length = last.Length > 1 && double.TryParse(last[..^1], NumberStyles.Float, CultureInfo.InvariantCulture, out var number)
        ? last[^1] switch { 's' => TimeSpan.FromSeconds(number), 'm' => TimeSpan.FromMinutes(number), 'h' => TimeSpan.FromHours(number), 'd' => TimeSpan.FromDays(number), _ => TimeSpan.Zero }
        : TimeSpan.Zero;
    if (length <= TimeSpan.Zero)
        throw new CommandException($"--last is '{last}'; a length such as 30m, 2h or 1d is expected.", 0);
    var to = DateTimeOffset.UtcNow;
    var answer = (await client.Post("api/ask", new { text, from = to - length, to, cluster }))!;
    foreach (var step in answer["steps"]!.AsArray())
        Console.WriteLine($"{step!["left"],8}  {step["text"]}");
    foreach (var note in answer["notes"]!.AsArray().Where(note => (string?)note!["kind"] != "gap"))
        Console.WriteLine($"    note  {note!["text"]}");
    if (answer["notes"]!.AsArray().Count(note => (string?)note!["kind"] == "gap") is > 0 and var gaps)
        Console.WriteLine($"    note  {gaps} gaps in the series, in which nothing was received");
    Console.WriteLine();
    if (answer["columns"] is JsonArray columns)
    {
        Console.WriteLine(string.Join('\t', columns.Select(column => (string?)column!["name"])));
        foreach (var row in answer["rows"]!.AsArray())
            Console.WriteLine(string.Join('\t', row!.AsArray().Select((value, i) => (string?)columns[i]!["unit"] == "time" && value is not null
                ? DateTimeOffset.FromUnixTimeMilliseconds((long)(double)value).ToString("yyyy-MM-dd HH:mm:ss.fff", CultureInfo.InvariantCulture) : value?.ToString() ?? "")));
        if ((string?)answer["next"] is not null)
            Console.WriteLine($"    {answer["rows"]!.AsArray().Count} of {answer["total"]} rows shown; narrow with where, or keep some with first");
    }
    foreach (var series in answer["series"]!.AsArray())
    {
        var values = series!["points"]!.AsArray().Select(point => (double?)point![1]).OfType<double>().ToArray();
        var labels = string.Join(", ", series["labels"]!.AsObject().Select(pair => $"{pair.Key}={pair.Value}"));
        Console.WriteLine(values.Length == 0 ? $"       -  {labels}"
            : string.Create(CultureInfo.InvariantCulture, $"{values[^1],12:G6} {answer["unit"],-8} (min {values.Min():G4}, max {values.Max():G4})  {labels}"));
    }
}
