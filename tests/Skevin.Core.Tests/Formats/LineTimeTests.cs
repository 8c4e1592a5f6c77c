using Skevin.Core.Formats.ContainerLog;

namespace Skevin.Core.Tests.Formats;

/// <summary>Times lines begin with. Examples: RFC 3339, section 5.8.</summary>
public sealed class LineTimeTests
{
    [Theory]
    [InlineData("1985-04-12T23:20:50.52Z", "1985-04-12T23:20:50.5200000+00:00")]
    [InlineData("1996-12-19T16:39:57-08:00", "1996-12-19T16:39:57.0000000-08:00")]
    [InlineData("1937-01-01T12:00:27.87+00:20", "1937-01-01T12:00:27.8700000+00:20")]
    [InlineData("1985-04-12 23:20:50.52Z lots sold", "1985-04-12T23:20:50.5200000+00:00")]
    [InlineData("1985-04-12T23:20:50.123456789Z lots sold", "1985-04-12T23:20:50.1234567+00:00")]
    public void Times_with_a_zone_are_read(string line, string time) => LineTime.Read(line)!.Value.ToString("o").ShouldBe(time);

    [Theory]
    [InlineData("")]
    [InlineData("lots sold")]
    [InlineData("1985-04-12T23:20:50 lots sold")]
    [InlineData("1985-04-12")]
    [InlineData("1985-99-12T23:20:50Z")]
    [InlineData("[1985-04-12T23:20:50Z] lots sold")]
    // A leap second, which the clock of .NET does not have.
    [InlineData("1990-12-31T23:59:60Z")]
    public void Others_are_not_guessed_at(string line) => LineTime.Read(line).ShouldBeNull();

    [Fact]
    public void Any_text_is_read_or_left()
    {
        var random = new Random(1);
        const string Letters = "0123456789-:TtZz.+ ";
        for (var i = 0; i < 200_000; i++)
            LineTime.Read(string.Create(random.Next(40), random, (text, seed) => { foreach (ref var c in text) c = Letters[seed.Next(Letters.Length)]; }));
    }
}
