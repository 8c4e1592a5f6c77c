using System.Text.RegularExpressions;

namespace Skevin.Core.Query.Language;

/// <summary>Patterns that are matched in time linear in the text, whatever a person writes.</summary>
public static class LinearPattern
{
    /// <summary>A regular expression for <c>matches</c>.</summary>
    /// <returns>Null where it is malformed or needs backtracking.</returns>
    public static Regex? Compile(string pattern)
    {
        try
        {
            return new Regex(pattern, RegexOptions.NonBacktracking | RegexOptions.CultureInvariant);
        }
        catch (Exception wrong) when (wrong is ArgumentException or NotSupportedException)
        {
            return null;
        }
    }

    /// <summary>SQL's <c>like</c>: <c>%</c> for any text, <c>_</c> for one character, over the whole value.</summary>
    public static Regex Like(string pattern) =>
        new("\\A" + Regex.Escape(pattern).Replace("%", ".*").Replace("_", ".") + "\\z",
            RegexOptions.NonBacktracking | RegexOptions.CultureInvariant | RegexOptions.Singleline);
}
