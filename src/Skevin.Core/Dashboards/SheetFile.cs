using Skevin.Core.Formats;
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
        var read = YamlFile.Read<Document>(text, Longest, "title: and strips:", new Dictionary<string, string> { ["Document"] = "a sheet has title, about and strips", ["Part"] = "a strip has title, subtitle, text, draw, height, by and about" });
        return new Sheet("", read.Title ?? "", read.About ?? "", [.. (read.Strips ?? []).Select(part => part ?? new Part()).Select(part => new Strip(part.Title ?? "", part.Subtitle ?? "", part.Text ?? "", part.Draw ?? "", part.Height, part.By ?? "", part.About ?? ""))]);
    }
}
