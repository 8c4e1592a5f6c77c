using Skevin.Core.Series;

namespace Skevin.Core.Blocks;

/// <summary>
/// Says of a word whether a block surely does not hold it, so that a rare word opens few blocks. A Bloom filter with 16 bits a word and
/// 11 probes, about one word in two thousand passed wrongly: opening a block costs far more than the bits. Source: Bloom 1970, m/n = 16, k = 0.7 m/n.
/// </summary>
public static class WordFilter
{
    private const int BitsAWord = 16;

    /// <summary>Bits a word sets.</summary>
    public const int Probes = 11;

    /// <summary>Bits a word set in filters that were written first.</summary>
    public const int FirstProbes = 7;

    /// <summary>A filter over distinct words.</summary>
    public static byte[] Of(IReadOnlySet<string> words)
    {
        var filter = new byte[Math.Max(8, (words.Count * BitsAWord + 7) / 8)];
        foreach (var word in words)
        {
            var (one, two) = Hash(word);
            for (var i = 0; i < Probes; i++)
            {
                var bit = Bit(one + (ulong)i * two, filter);
                filter[bit >> 3] |= (byte)(1 << (bit & 7));
            }
        }
        return filter;
    }

    /// <summary>The numbers that, divided by a filter's bits, leave the bits that are all set where it may hold the word.</summary>
    public static ulong[] ProbesOf(string word)
    {
        var (one, two) = Hash(word);
        return [.. Enumerable.Range(0, Probes).Select(i => one + (ulong)i * two)];
    }

    /// <summary>False where the word is surely not among them.</summary>
    public static bool MayHold(byte[] filter, string word) => ProbesOf(word).All(probe => Bit(probe, filter) is var bit && (filter[bit >> 3] & (1 << (bit & 7))) != 0);

    private static int Bit(ulong probe, byte[] filter) => (int)(probe % ((ulong)filter.Length * 8));

    /// <summary>Adds the words of a text, runs of letters and digits in lower case, to a set; a text is made only of those that are new.</summary>
    public static void Collect(ReadOnlySpan<char> text, HashSet<string> words)
    {
        var known = words.GetAlternateLookup<ReadOnlySpan<char>>();
        Span<char> lower = stackalloc char[256];
        for (var at = 0; Next(text, ref at, out var from);)
            if (at - from <= lower.Length)
                known.Add(lower[..text[from..at].ToLowerInvariant(lower)]);
            else
                words.Add(text[from..at].ToString().ToLowerInvariant());
    }

    /// <inheritdoc cref="Collect(ReadOnlySpan{char}, HashSet{string})"/>
    public static void Collect(Labels labels, HashSet<string> words)
    {
        foreach (var (_, value) in labels)
            Collect(value, words);
    }

    /// <summary>The words of a text in order.</summary>
    public static List<string> Words(ReadOnlySpan<char> text)
    {
        var words = new List<string>();
        for (var at = 0; Next(text, ref at, out var from);)
            words.Add(text[from..at].ToString().ToLowerInvariant());
        return words;
    }

    // The next run of letters and digits: from where it begins to where reading goes on.
    private static bool Next(ReadOnlySpan<char> text, ref int at, out int from)
    {
        while (at < text.Length && !char.IsLetterOrDigit(text[at]))
            at++;
        from = at;
        while (at < text.Length && char.IsLetterOrDigit(text[at]))
            at++;
        return at > from;
    }

    // FNV-1a over the characters, its bits mixed by the finaliser of splitmix64.
    private static (ulong, ulong) Hash(string word)
    {
        var hash = 14695981039346656037UL;
        foreach (var c in word)
            hash = (hash ^ c) * 1099511628211UL;
        return (Mix(hash), Mix(hash + 0x9e3779b97f4a7c15UL) | 1);
    }

    private static ulong Mix(ulong x)
    {
        x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9UL;
        x = (x ^ (x >> 27)) * 0x94d049bb133111ebUL;
        return x ^ (x >> 31);
    }
}
