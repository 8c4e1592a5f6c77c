namespace Skevin.Core.Query.Language;

/// <summary>How many letters to change: for suggestions.</summary>
public static class EditDistance
{
    /// <summary>Levenshtein distance, letter case ignored at no cost.</summary>
    public static int Between(string a, string b)
    {
        var before = new int[b.Length + 1];
        var row = new int[b.Length + 1];
        for (var j = 0; j <= b.Length; j++)
            before[j] = j;
        for (var i = 1; i <= a.Length; i++)
        {
            row[0] = i;
            for (var j = 1; j <= b.Length; j++)
            {
                var same = char.ToLowerInvariant(a[i - 1]) == char.ToLowerInvariant(b[j - 1]);
                row[j] = Math.Min(Math.Min(row[j - 1], before[j]) + 1, before[j - 1] + (same ? 0 : 1));
            }
            (before, row) = (row, before);
        }
        return before[b.Length];
    }

    /// <summary>The nearest candidates, nearest first, leaving out those too far to have been meant.</summary>
    public static IEnumerable<string> Nearest(string word, IEnumerable<string> candidates, int most) =>
        candidates
            .Distinct()
            .Select(candidate => (candidate, distance: Between(word, candidate), holds: Holds(candidate, word)))
            .Where(pair => pair.holds || pair.distance <= Math.Max(2, word.Length / 3))
            .OrderBy(pair => pair.distance)
            .ThenBy(pair => pair.candidate, StringComparer.Ordinal)
            .Select(pair => pair.candidate)
            .Take(most);

    private static bool Holds(string candidate, string word) =>
        word.Length >= 3 && candidate.Contains(word, StringComparison.OrdinalIgnoreCase);
}
