using Npgsql;
using Skevin.Core.Query.Language;

namespace Skevin.Server.Tests;

/// <summary>The language's <c>like</c> is SQL's: PostgreSQL is the reference.</summary>
public sealed class LikeAgainstSqlTests
{
    [Fact]
    public async Task Like_matches_what_postgresql_matches()
    {
        var random = new Random(11);
        string Text(string letters, int longest) => new([.. Enumerable.Range(0, random.Next(longest)).Select(_ => letters[random.Next(letters.Length)])]);
        var patterns = Enumerable.Range(0, 4000).Select(_ => Text("ab%_.*[(", 7)).ToArray();
        var texts = patterns.Select(_ => Text("ab.*[(\n", 7)).ToArray();
        await using var connection = new NpgsqlConnection(await TestDatabase.Make());
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand("select array_agg(text like pattern order by at) from unnest(@texts, @patterns) with ordinality as given (text, pattern, at)", connection);
        command.Parameters.AddWithValue("texts", texts);
        command.Parameters.AddWithValue("patterns", patterns);
        var expected = (bool[])(await command.ExecuteScalarAsync())!;
        expected.Count(matches => matches).ShouldBeGreaterThan(200);
        for (var i = 0; i < patterns.Length; i++)
            LinearPattern.Like(patterns[i]).IsMatch(texts[i]).ShouldBe(expected[i], $"'{texts[i]}' like '{patterns[i]}'");
    }

    [Theory]
    [InlineData("(a+)+$", true)]
    [InlineData("^ledger-[0-9a-f]+$", true)]
    [InlineData("(a)\\1", false)]
    [InlineData("(?=a)b", false)]
    [InlineData("[", false)]
    public void Only_patterns_that_match_in_linear_time_are_taken(string pattern, bool taken) => (LinearPattern.Compile(pattern) is not null).ShouldBe(taken);
}
