using System.Text.RegularExpressions;
using YamlDotNet.Core;
using YamlDotNet.Serialization;
using YamlDotNet.Serialization.NamingConventions;

namespace Skevin.Core.Formats;

/// <summary>Files people write, in YAML, of which JSON is a part: strict about names, with mistakes named by their line.</summary>
public static partial class YamlFile
{
    /// <summary>Reads a document.</summary>
    /// <param name="text">The file.</param>
    /// <param name="longest">Most characters of it.</param>
    /// <param name="begins">How such a file begins, for one that is empty.</param>
    /// <param name="has">What a part of it has, in words, by the name of its type.</param>
    /// <exception cref="FormatException">The text is no such file; the message says where.</exception>
    public static T Read<T>(string text, int longest, string begins, IReadOnlyDictionary<string, string> has) where T : class
    {
        if (text.Length > longest)
            throw new FormatException($"The file is longer than {longest:N0} characters.");
        try
        {
            return new DeserializerBuilder().WithNamingConvention(CamelCaseNamingConvention.Instance).WithDuplicateKeyChecking().Build().Deserialize<T?>(text) ?? throw new FormatException($"The file is empty. It begins with {begins}.");
        }
        catch (YamlException wrong)
        {
            var message = (wrong.InnerException ?? wrong).Message;
            var unknown = Unknown().Match(message);
            throw new FormatException($"Line {wrong.Start.Line}, column {wrong.Start.Column}: " + (unknown.Success ? $"there is no '{unknown.Groups[1].Value}' here; {has.GetValueOrDefault(unknown.Groups[2].Value, "it is not known")}." : Kind(wrong.InnerException ?? wrong) ?? message), wrong);
        }
        catch (Exception odd) when (odd is not FormatException)
        {
            // The YAML library lets other exceptions through, for example where a tag is no URI.
            throw new FormatException("It cannot be read as YAML: " + odd.Message, odd);
        }
    }

    // The library speaks of its types where a value is of another kind than belongs there.
    private static string? Kind(Exception wrong) => wrong.Message switch
    {
        _ when wrong is FormatException => "a number or true or false stands here, not this text.",
        var text when !text.Contains("System.", StringComparison.Ordinal) => null,
        var text when text.Contains("List`", StringComparison.Ordinal) => "a list stands here, each of its parts on a line that begins with '-'.",
        var text when text.Contains("Dictionary`", StringComparison.Ordinal) => "names with values stand here, each on a line.",
        _ => "what stands here is of another kind than belongs here.",
    };

    [GeneratedRegex("Property '([^']*)' not found on type '[^']*?(\\w+)'")]
    private static partial Regex Unknown();
}
