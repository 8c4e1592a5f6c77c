using CsCheck;
using Skevin.Core.Dashboards;

namespace Skevin.Core.Tests.Dashboards;

public sealed class SheetTests
{
    private static readonly Gen<string> Words = Gen.String[Gen.Char["ab:#-'\"{}\n\\ é→|>"], 1, 30].Where(text => text.Trim().Length > 0);

    private static Gen<string> OneOf(params string[] words) => Gen.Int[0, words.Length - 1].Select(i => words[i]);

    private static readonly Gen<StripBound> Bounds = Gen.Select(OneOf("80%", "400ms", "-18Cel", "0.5"), OneOf(Sheet.Severities), Gen.Bool).Select((at, severity, below) => new StripBound(at, severity, below));

    private static readonly Gen<Strip> Strips = Gen.Select(Words, Words, Gen.Int[0, Sheet.Draws.Length - 1], Gen.Int[48, 480], Words, Bounds.Array[0, 3], Gen.Dictionary(Words, OneOf(Sheet.Colours))[0, 3])
        .Select((title, subtitle, draw, height, about, bounds, colours) => new Strip(title, subtitle, "container.cpu.time -> rate -> sum by namespace", Sheet.Draws[draw], height, "namespace", about, null, bounds.Length == 0 ? null : bounds, colours.Count == 0 ? null : new Dictionary<string, string>(colours)));

    // Lists in records are equal by reference, so whole sheets are compared as they are written in the API.
    private static string Whole(Sheet sheet) => System.Text.Json.JsonSerializer.Serialize(sheet);

    [Fact]
    public void What_is_written_is_read_back() => Gen.Select(Words, Words, Strips.Array[1, 5], Gen.Select(Words, Words.Null()).Select((field, from) => new SheetChoice(field, from)).Array[0, 3]).Sample((title, about, strips, choices) =>
    {
        var sheet = new Sheet("", title, about, strips, Choices: choices.Length == 0 ? null : choices);
        Whole(SheetFile.Read(SheetFile.Write(sheet))).ShouldBe(Whole(sheet));
    }, iter: 300);

    [Fact]
    public void Json_is_read_too_and_what_is_left_out_is_usual()
    {
        var sheet = SheetFile.Read("""{"title": "Cold rooms", "strips": [{"title": "Doors", "text": "logs -> count every 1m"}]}""");
        sheet.Strips.ShouldBe([new Strip("Doors", "", "logs -> count every 1m", "lines", 96, "", "")]);
        sheet.Problems().ShouldBeEmpty();
    }

    [Theory]
    [InlineData("title: a\nstrips:\n  - title: b\n    hieght: 9\n", "Line 4, column 5: there is no 'hieght' here; a strip has title")]
    [InlineData("titel: a\n", "Line 1, column 1: there is no 'titel' here; a sheet has title")]
    [InlineData("title: a\n strips: [\n", "Line 2")]
    [InlineData("title: a\ntitle: b\n", "Line 2")]
    [InlineData("", "The file is empty")]
    [InlineData("title: a\nstrips:\n  - title: b\n    height: tall\n", "Line 4, column 13")]
    [InlineData("!![,\n", "cannot be read as YAML")]
    [InlineData("title: a\nstrips:\n  - title: b\n    bounds: 80%\n", "Line 4, column 13: a list stands here")]
    [InlineData("title: a\nstrips:\n  - title: b\n    colours: red\n", "Line 4, column 14: names with values stand here")]
    [InlineData("title: a\nstrips: none\n", "Line 2, column 9: a list stands here")]
    public void A_file_that_is_none_says_where(string text, string says) => Should.Throw<FormatException>(() => SheetFile.Read(text)).Message.ShouldContain(says);

    [Fact]
    public void Any_text_is_read_or_refused() => Gen.String[Gen.Char["title: srp-\n[]{}\"'&*!|>%@`,#0"], 0, 60].Sample(text =>
    {
        try
        {
            SheetFile.Read(text);
        }
        catch (FormatException)
        {
            // Said so.
        }
    }, iter: 5000);

    [Fact]
    public void The_published_schema_names_what_a_file_may_hold()
    {
        var schema = System.Text.Json.Nodes.JsonNode.Parse(File.ReadAllText(Path.Combine(Repository.Root, "docs/formats/sheet.schema.json")))!;
        var strip = schema["properties"]!["strips"]!["items"]!["properties"]!;
        strip["draw"]!["enum"]!.AsArray().Select(name => (string)name!).ShouldBe(Sheet.Draws);
        ((int)schema["properties"]!["strips"]!["maxItems"]!).ShouldBe(Sheet.MostStrips);
        ((int)schema["properties"]!["choices"]!["maxItems"]!).ShouldBe(Sheet.MostChoices);
        ((int)strip["bounds"]!["maxItems"]!).ShouldBe(Sheet.MostBounds);
        strip["bounds"]!["items"]!["properties"]!["severity"]!["enum"]!.AsArray().Select(name => (string)name!).ShouldBe(Sheet.Severities);
        strip["colours"]!["additionalProperties"]!["enum"]!.AsArray().Select(name => (string)name!).ShouldBe(Sheet.Colours);
        SheetFile.Read("title: a\nstrips:\n  - {title: b, text: logs, bounds: [{at: 80%}]}\n").Strips[0].Bounds!.Single().ShouldBe(new StripBound("80%", (string)strip["bounds"]!["items"]!["properties"]!["severity"]!["default"]!));
        // Every property it names is read, with the default it gives; one it does not name is refused by the reader.
        foreach (var (name, rule) in strip.AsObject())
            SheetFile.Read($"title: a\nstrips:\n  - text: logs\n    {(name == "text" ? "title" : name)}: {(name switch { "height" => "60", "draw" => "steps", "bounds" => "[{at: 80%}]", "colours" => "{error: critical}", _ => "x" })}\n").Strips.ShouldHaveSingleItem();
        new Sheet("", "a", "", SheetFile.Read("strips:\n  - title: b\n    text: logs\n").Strips).Strips[0].ShouldSatisfyAllConditions(
            read => read.Draw.ShouldBe((string)strip["draw"]!["default"]!), read => read.Height.ShouldBe((int)strip["height"]!["default"]!));
    }

    [Theory]
    [InlineData("title: ")]
    [InlineData("")]
    [InlineData("strips:\n  - ")]
    [InlineData("? ")]
    public void Deep_nesting_is_refused_not_followed(string begin) => Should.Throw<FormatException>(() => SheetFile.Read(begin + new string('[', 200_000)));

    [Fact]
    public void What_is_wrong_inside_says_in_which_strip()
    {
        var strip = new Strip("Doors", "", "logs -> count every 1m", "lines", 96, "", "");
        new Sheet("", "", "", [strip]).Problems().ShouldBe(["A sheet has a title of up to 120 characters."]);
        new Sheet("", "a", "", []).Problems().ShouldBe(["A sheet has at least one strip."]);
        new Sheet("", "a", "", [strip, strip with { Draw = "line" }, strip with { Height = 5 }, strip with { Text = "logs -> rat" }]).Problems().ShouldBe([
            "strips[1] 'Doors': draw is one of lines, area, stack, steps, heat, bars, apart, figure, ranked, gauge, table, log, lanes, not 'line'. The nearest: lines.", "strips[2] 'Doors': height is 48 to 480, not 5.",
            "strips[3] 'Doors': line 1, column 9 of the enquiry: 'rat' is not a step."], Case.Sensitive);
        new Sheet("", "a", "", [strip with { Bounds = [new("80 apples", "grave")], Colours = new Dictionary<string, string> { ["error"] = "red" } }], Choices: [new("")]).Problems().ShouldBe([
            "choices[0]: field, the name of what is chosen, is empty or too long.",
            "strips[0] 'Doors': severity of a bound is one of warning, minor, major, critical, not 'grave'.",
            "strips[0] 'Doors': at of a bound: '80 apples' is not a number with an optional unit, such as 0.8 or 400ms.",
            "strips[0] 'Doors': a colour is one of warning, minor, major, critical, clear, metrics, logs, traces, flows, quiet, not 'red'."], Case.Sensitive);
    }
}
