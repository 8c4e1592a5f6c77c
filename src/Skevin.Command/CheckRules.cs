using System.Text.Json;
using System.Text.Json.Serialization;
using Skevin.Core.Alarms.Files;

namespace Skevin.Command;

/// <summary>Rules and their tests as files: checked and tested without a server, put in force with one.</summary>
public static class CheckRules
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { Converters = { new JsonStringEnumConverter(JsonNamingPolicy.CamelCase) }, DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull };

    /// <summary>Checks the rules of files and runs their tests; 0 when everything is well, 1 where something is not. Ends with a line "N passed, N failed".</summary>
    public static async Task<int> Test(IReadOnlyList<string> files)
    {
        var (passed, failed) = (0, 0);
        foreach (var path in files)
        {
            RuleFile file;
            try
            {
                file = Read(path);
            }
            catch (CommandException wrong)
            {
                failed++;
                Console.WriteLine($"FAILED  {wrong.Message}");
                continue;
            }
            var problems = file.Problems().ToLookup(problem => problem.Rule, problem => problem.Message);
            foreach (var rule in file.Rules)
                Say(path, "rule " + rule.Rule, [.. problems[rule.Rule].Distinct()]);
            foreach (var outcome in await RuleTester.Run(file, CancellationToken.None))
                Say(path, outcome.Title, outcome.Differences);
        }
        Console.WriteLine($"{passed} passed, {failed} failed");
        return failed == 0 ? 0 : 1;

        void Say(string path, string title, IReadOnlyList<string> wrong)
        {
            _ = wrong.Count == 0 ? passed++ : failed++;
            Console.WriteLine($"{(wrong.Count == 0 ? "passed" : "FAILED")}  {path}: {title}");
            foreach (var line in wrong)
                Console.WriteLine("        " + line);
        }
    }

    /// <summary>Puts the rules of a file in force; those of the same name are changed.</summary>
    public static async Task<int> Apply(Client client, string path, string? cluster)
    {
        var file = Read(path);
        if (file.Problems().FirstOrDefault() is { Message: { } message } first)
            throw new CommandException($"{path}: {first.Rule}: {message}", 0);
        var there = (await client.Get("api/alert-rules"))!.AsArray();
        foreach (var rule in file.Rules.Select(rule => rule with { Cluster = rule.Cluster ?? cluster }))
        {
            var known = there.FirstOrDefault(one => (string?)one!["document"]!["rule"] == rule.Rule && (rule.Cluster is null || (string?)one["cluster"] == rule.Cluster));
            var body = JsonSerializer.SerializeToNode(rule, Json)!;
            if (known is null)
                await client.Post("api/alert-rules", body);
            else
                await client.Put($"api/alert-rules/{known["id"]}", body);
            Console.WriteLine($"{(known is null ? "made   " : "changed")}  {rule.Rule}");
        }
        return 0;
    }

    private static RuleFile Read(string path)
    {
        try
        {
            return RuleFile.Read(File.ReadAllText(path));
        }
        catch (Exception wrong) when (wrong is IOException or UnauthorizedAccessException or FormatException)
        {
            throw new CommandException($"{path}: {wrong.Message}", 0);
        }
    }
}
