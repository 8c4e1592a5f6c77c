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
        public List<ChoicePart>? Choices { get; set; }
        public List<Part> Strips { get; set; } = [];
    }

    private sealed class ChoicePart
    {
        public string Field { get; set; } = "";
        public string? From { get; set; }
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
        public List<BoundPart>? Bounds { get; set; }
        public Dictionary<string, string>? Colours { get; set; }
    }

    private sealed class BoundPart
    {
        public string At { get; set; } = "";
        public string Severity { get; set; } = "major";
        public bool Below { get; set; }
    }

    /// <summary>Writes a sheet. A kept enquiry is known here alone: its text goes along, its name does not.</summary>
    public static string Write(Sheet sheet) => new SerializerBuilder().WithNamingConvention(CamelCaseNamingConvention.Instance).WithQuotingNecessaryStrings().WithIndentedSequences().ConfigureDefaultValuesHandling(DefaultValuesHandling.OmitNull).DisableAliases().Build().Serialize(new Document
    {
        Title = sheet.Title, About = sheet.About,
        Choices = sheet.Choices is { Count: > 0 } choices ? [.. choices.Select(choice => new ChoicePart { Field = choice.Field, From = choice.From })] : null,
        Strips = [.. sheet.Strips.Select(Written)],
    });

    /// <summary>Reads a sheet; what is wrong inside it is for <see cref="Sheet.Problems"/> to say.</summary>
    /// <exception cref="FormatException">The text is no such file; the message says where.</exception>
    public static Sheet Read(string text)
    {
        var read = YamlFile.Read<Document>(text, Longest, "title: and strips:", new Dictionary<string, string>
        {
            ["Document"] = "a sheet has title, about, choices and strips", ["ChoicePart"] = "a choice has field and from",
            ["Part"] = "a strip has title, subtitle, text, draw, height, by, about, bounds and colours", ["BoundPart"] = "a bound has at, severity and below",
        });
        return new Sheet("", read.Title ?? "", read.About ?? "", [.. (read.Strips ?? []).Select(part => StripOf(part ?? new Part()))],
            Choices: read.Choices is { Count: > 0 } choices ? [.. choices.Select(choice => new SheetChoice(choice?.Field ?? "", choice?.From))] : null);
    }

    private static Part Written(Strip strip) => new()
    {
        Title = strip.Title, Subtitle = strip.Subtitle, Text = strip.Text, Draw = strip.Draw, Height = strip.Height, By = strip.By, About = strip.About,
        Bounds = strip.Bounds is { Count: > 0 } bounds ? [.. bounds.Select(bound => new BoundPart { At = bound.At, Severity = bound.Severity, Below = bound.Below })] : null,
        Colours = strip.Colours is { Count: > 0 } colours ? new Dictionary<string, string>(colours) : null,
    };

    private static Strip StripOf(Part part) => new(part.Title ?? "", part.Subtitle ?? "", part.Text ?? "", part.Draw ?? "", part.Height, part.By ?? "", part.About ?? "", null,
        part.Bounds is { Count: > 0 } bounds ? [.. bounds.Select(bound => new StripBound(bound?.At ?? "", bound?.Severity ?? "", bound?.Below ?? false))] : null,
        part.Colours is { Count: > 0 } colours ? colours : null);
}
