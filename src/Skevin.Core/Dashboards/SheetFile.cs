using YamlDotNet.Core;
using YamlDotNet.Serialization;
using YamlDotNet.Serialization.NamingConventions;

namespace Skevin.Core.Dashboards;

/// <summary>Sheets as files: YAML, of which JSON is a part. The form is described by docs/formats/sheet.schema.json.</summary>
public static class SheetFile
{
    /// <summary>Most characters of a file.</summary>
    public const int Longest = 400_000;

    // What stands in a file; what is left out has the values a strip most often has.
    private sealed class Document
    {
        public string Title { get; set; } = "";
        public string About { get; set; } = "";
        public List<Part> Strips { get; set; } = [];
    }

    private sealed class Part
    {
        public string Title { get; set; } = "";
        public string Subtitle { get; set; } = "";
        public string Text { get; set; } = "";
        public string Draw { get; set; } = "lines";
        public int Height { get; set; } = 96;
        public string By { get; set; } = "";
        public string About { get; set; } = "";
    }

    /// <summary>Writes a sheet.</summary>
    public static string Write(Sheet sheet) => new SerializerBuilder().WithNamingConvention(CamelCaseNamingConvention.Instance).WithQuotingNecessaryStrings().WithIndentedSequences().DisableAliases().Build().Serialize(new Document
    {
        Title = sheet.Title, About = sheet.About,
        Strips = [.. sheet.Strips.Select(strip => new Part { Title = strip.Title, Subtitle = strip.Subtitle, Text = strip.Text, Draw = strip.Draw, Height = strip.Height, By = strip.By, About = strip.About })],
    });

    /// <summary>Reads a sheet; what is wrong inside it is for <see cref="Sheet.Problems"/> to say.</summary>
    /// <exception cref="FormatException">The text is no such file; the message says where.</exception>
    public static Sheet Read(string text)
    {
        if (text.Length > Longest)
            throw new FormatException($"The file is longer than {Longest:N0} characters.");
        try
        {
            var read = new DeserializerBuilder().WithNamingConvention(CamelCaseNamingConvention.Instance).WithDuplicateKeyChecking().Build().Deserialize<Document?>(text) ?? throw new FormatException("The file is empty. It begins with title: and strips:.");
            return new Sheet("", read.Title ?? "", read.About ?? "", [.. (read.Strips ?? []).Select(part => part ?? new Part()).Select(part => new Strip(part.Title ?? "", part.Subtitle ?? "", part.Text ?? "", part.Draw ?? "", part.Height, part.By ?? "", part.About ?? ""))]);
        }
        catch (YamlException wrong)
        {
            var message = (wrong.InnerException ?? wrong).Message;
            var unknown = System.Text.RegularExpressions.Regex.Match(message, "Property '([^']*)' not found on type '[^']*(Document|Part)'");
            throw new FormatException($"Line {wrong.Start.Line}, column {wrong.Start.Column}: " + (unknown.Success
                ? $"there is no '{unknown.Groups[1].Value}' here; {(unknown.Groups[2].Value == "Part" ? "a strip has title, subtitle, text, draw, height, by and about" : "a sheet has title, about and strips")}."
                : message), wrong);
        }
        catch (Exception odd) when (odd is not FormatException)
        {
            // The YAML library lets other exceptions through, for example where a tag is no URI.
            throw new FormatException("It cannot be read as YAML: " + odd.Message, odd);
        }
    }
}
