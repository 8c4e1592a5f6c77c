using System.Reflection;
using Skevin.Core.Alarms.Files;

namespace Skevin.Core.Alarms.ReadyMade;

/// <summary>A rule that ships, with its runbook.</summary>
/// <param name="Area">resource-use, pod-health, traffic or collection.</param>
/// <param name="Document">The rule; its runbook is the path under which the page shows it.</param>
/// <param name="Runbook">The runbook's name.</param>
public sealed record ReadyMadeRule(string Area, RuleDocument Document, string Runbook);

/// <summary>Rules that fit most clusters, and what to do when they speak. They stand as files beside this one.</summary>
public static class ReadyMadeRules
{
    /// <summary>Where the page shows runbooks.</summary>
    public const string Path = "/alarms?runbook=";

    private static readonly Assembly Own = typeof(ReadyMadeRules).Assembly;
    private const string Folder = "Skevin.Core.Alarms.ReadyMade.";

    /// <summary>All of them.</summary>
    public static IReadOnlyList<ReadyMadeRule> All { get; } =
        [.. RuleFile.Read(Text("rules.yaml")!).Rules.Select(rule => new ReadyMadeRule(rule.Runbook!.Split('/')[0], rule with { When = rule.When.Trim(), Runbook = Path + rule.Runbook }, rule.Runbook!))];

    /// <summary>The text of a runbook as Markdown, or null.</summary>
    /// <param name="name">For example <c>pod-health/restarts</c>.</param>
    public static string? Runbook(string name) => All.Any(rule => rule.Runbook == name) ? Text(name + ".md") : null;

    // A resource is named by its path, with dots for slashes; MSBuild writes a folder's dash as an underscore.
    private static string? Text(string file)
    {
        var (folder, name) = file.Split('/') is [var first, var last] ? (first.Replace('-', '_') + ".", last) : ("", file);
        using var stream = Own.GetManifestResourceStream(Folder + folder + name);
        return stream is null ? null : new StreamReader(stream).ReadToEnd();
    }
}
