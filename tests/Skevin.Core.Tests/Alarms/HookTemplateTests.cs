using System.Text.Json;
using System.Text.Json.Nodes;
using CsCheck;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Telling;

namespace Skevin.Core.Tests.Alarms;

/// <summary>Messages in the form another program takes, and messages that are held back.</summary>
public sealed class HookTemplateTests
{
    private static JsonNode Message(string rule = "Ledger replies slowly") => new JsonObject
    {
        ["id"] = "1", ["rule"] = rule, ["transition"] = "raised", ["severity"] = "major", ["cluster"] = "larkfield-north", ["labels"] = new JsonObject { ["namespace"] = "auction" }, ["value"] = 2.5, ["unit"] = "s", ["drill"] = false, ["flapping"] = false,
    };

    [Fact]
    public void Names_are_filled_in_and_what_is_in_braces_else_is_left()
    {
        const string Template = "{\"text\": \"{severity} {transition}: {rule} at {value} {unit}\", \"of\": {\"where\": \"{labels}\", \"more\": \"{count}\"}, \"empty\": {}}";
        HookTemplate.Problem(Template).ShouldBeNull();
        var read = JsonNode.Parse(HookTemplate.Fill(Template, HookTemplate.Texts("g", [Message(), Message()], "https://skevin.example/alarms")))!;
        ((string)read["text"]!).ShouldBe("major raised: Ledger replies slowly at 2.5 s");
        ((string)read["of"]!["where"]!, (string)read["of"]!["more"]!).ShouldBe(("auction", "2"));
    }

    [Theory]
    [InlineData("{\"text\": \"{rulee}\"}", "no {rulee}")]
    [InlineData("{\"text\": {rule}}", "not JSON")]
    [InlineData("{\"text\": \"{rule}\"", "not JSON")]
    public void Mistakes_are_told(string template, string what) => HookTemplate.Problem(template)!.ShouldContain(what);

    /// <summary>Whatever a value holds, what is sent is JSON, and the value comes out as it went in.</summary>
    [Fact]
    public void No_value_changes_the_form() => Gen.String.Sample(text =>
    {
        // Half of a pair of surrogates is no text; writers put another character in its place.
        if (!text.IsNormalized() || text.Any(char.IsSurrogate))
            return;
        var read = JsonDocument.Parse(HookTemplate.Fill("{\"a\": \"<{rule}>\", \"b\": 1}", HookTemplate.Texts("g", [Message(text)], ""))).RootElement;
        read.GetProperty("a").GetString().ShouldBe($"<{text}>");
        read.EnumerateObject().Count().ShouldBe(2);
    });

    [Fact]
    public void Any_text_is_a_template_or_is_refused_in_words()
    {
        var random = new Random(1);
        const string Letters = "{}\"rulecount:, \\[]1";
        for (var i = 0; i < 100_000; i++)
        {
            var template = string.Create(random.Next(30), random, (text, seed) => { foreach (ref var c in text) c = Letters[seed.Next(Letters.Length)]; });
            if (HookTemplate.Problem(template) is null)
                JsonDocument.Parse(HookTemplate.Fill(template, HookTemplate.Texts("g", [Message("\"},{")], ""))).Dispose();
        }
    }

    [Fact]
    public void A_message_in_a_line_says_what_where_and_whether_it_is_practice()
    {
        HookTemplate.Line(Message()).ShouldBe("major raised: Ledger replies slowly (auction, larkfield-north), 2.5 s");
        var drill = Message();
        (drill["drill"], drill["flapping"]) = (true, true);
        HookTemplate.Line(drill).ShouldStartWith("DRILL major raised");
        HookTemplate.Line(drill).ShouldContain("comes and goes");
    }

    /// <summary>
    /// Over any course of raising and clearing: whoever is told believes, twenty minutes after the last change, what is true; and is told at most so
    /// often. The model is the plainest code there is: what the last message said that was not taken back.
    /// </summary>
    [Fact]
    public void Whoever_is_told_believes_what_is_true_when_it_is_calm() => Gen.Int[1, 40].List[1, 60].Sample(minutes =>
    {
        var now = new DateTimeOffset(2026, 5, 12, 6, 0, 0, TimeSpan.Zero);
        var (raised, isRaised, believed, told) = (new List<DateTimeOffset>(), false, false, new List<DateTimeOffset>());
        DateTimeOffset? pending = null;
        foreach (var wait in minutes)
        {
            now = now.AddMinutes(wait);
            if (pending <= now)
                (believed, pending) = (false, null);
            isRaised = !isRaised;
            if (isRaised)
                raised.Add(now);
            var verdict = Flapping.Judge(isRaised ? AlarmTransition.Raised : AlarmTransition.Cleared, raised, now);
            if (isRaised && verdict != FlapVerdict.Tell)
                pending = null;
            if (verdict is FlapVerdict.Tell or FlapVerdict.TellLast)
            {
                believed = isRaised;
                told.Add(now);
            }
            if (verdict == FlapVerdict.TellWhenCalm)
                pending = now + Flapping.Calm;
        }
        if (pending <= now + Flapping.Calm)
            believed = false;
        // A rising that is told late, while the earlier end waits, is told too.
        told.Where((at, i) => i >= 8 && told[i - 8] > at - Flapping.Within).ShouldBeEmpty();
        return believed == isRaised;
    });
}
