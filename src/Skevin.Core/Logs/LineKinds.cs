using System.Text.RegularExpressions;

namespace Skevin.Core.Logs;

/// <summary>
/// Groups lines by template: lines of the same number of words that say mostly the same. Method: He, Zhu, Zheng and Lyu, "Drain", ICWS 2017,
/// with their similarity bound of 0.5; what holds a digit counts as variable from the start. Lines are taken one by one, memory is bounded.
/// </summary>
public sealed class LineKinds
{
    /// <summary>Most templates that are told apart; further lines join the likeliest one of their length, or <see cref="Other"/>.</summary>
    public const int MostKinds = 2000;

    /// <summary>What stands for a variable part, as <c>parse</c> reads it.</summary>
    public const string Variable = "{}";

    /// <summary>The kind of lines that fit no template once there are too many.</summary>
    public const string Other = "(other)";

    private const double Similar = 0.5;
    private const int MostWords = 100;
    private const int LongestShape = 160;

    private readonly Dictionary<(int Words, string First), List<Template>> _groups = [];
    private readonly Template _other = new([Other]);
    private int _count;

    private sealed class Template(string[] words)
    {
        public string[] Words { get; } = words;

        public double Count { get; set; }

        public string Example { get; set; } = "";

        public long Newest { get; set; } = long.MinValue;
    }

    /// <summary>A kind of line.</summary>
    /// <param name="Text">Its template.</param>
    /// <param name="Count">How many lines.</param>
    /// <param name="Example">The newest of them.</param>
    /// <param name="Newest">Its time, epoch milliseconds.</param>
    public sealed record Kind(string Text, double Count, string Example, long Newest);

    /// <summary>Takes a line; of several lines in one text the first is its kind.</summary>
    public void Add(string text, long milliseconds, double weight)
    {
        var words = Words(text);
        if (words.Length == 0)
            words = [""];
        var first = words[0].Contains(Variable) ? Variable : words[0];
        if (!_groups.TryGetValue((words.Length, first), out var group))
            _groups[(words.Length, first)] = group = [];
        var template = Nearest(group, words);
        if (template is null)
        {
            if (_count >= MostKinds)
            {
                template = _other;
            }
            else
            {
                _count++;
                group.Add(template = new Template(words));
            }
        }
        else
        {
            for (var i = 0; i < words.Length; i++)
                if (template.Words[i] != words[i])
                    template.Words[i] = Variable;
        }
        template.Count += weight;
        if (milliseconds >= template.Newest)
            (template.Newest, template.Example) = (milliseconds, text);
    }

    /// <summary>The kinds, the most frequent first.</summary>
    public IReadOnlyList<Kind> Finish() =>
        [.. _groups.Values.SelectMany(group => group).Append(_other).Where(template => template.Count > 0)
            .GroupBy(template => string.Join(' ', template.Words))
            .Select(same => new Kind(same.Key, same.Sum(template => template.Count), same.MaxBy(template => template.Newest)!.Example, same.Max(template => template.Newest)))
            .OrderByDescending(kind => kind.Count).ThenBy(kind => kind.Text, StringComparer.Ordinal)];

    /// <summary>What a line says apart from what varies: its first line with everything that holds a digit left out, cut behind whole words. It depends on the line alone, so it names the same kind at any time: the field <c>kind</c> of log lines.</summary>
    public static string Shape(string text)
    {
        var (shape, length) = (new List<string>(), 0);
        foreach (var word in Words(text))
        {
            if (shape.Count > 0 && (length += word.Length + 1) > LongestShape)
                break;
            shape.Add(word);
        }
        return string.Join(' ', shape);
    }

    /// <summary>Says of a text whether it is of a kind that <see cref="Finish"/> gave: what varies is any text that is not empty, and blanks are alike.</summary>
    public static Func<string, bool> Matcher(string kind)
    {
        var pattern = string.Join(@"\s+", kind.Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(word => string.Join(".+?", word.Split(Variable).Select(piece => Regex.Escape(piece.Replace("{{", "{").Replace("}}", "}"))))));
        var regex = new Regex($@"^\s*{pattern}\s*(?:$|[\r\n])", RegexOptions.NonBacktracking | RegexOptions.CultureInvariant);
        return regex.IsMatch;
    }

    private static Template? Nearest(List<Template> group, string[] words)
    {
        Template? nearest = null;
        var best = 0;
        foreach (var template in group)
        {
            var same = 0;
            for (var i = 0; i < words.Length; i++)
                if (template.Words[i] == words[i])
                    same++;
            if (same > best || nearest is null && same >= best)
                (best, nearest) = (same, template);
        }
        return best >= Similar * words.Length ? nearest : null;
    }

    private static string[] Words(string text)
    {
        var end = text.AsSpan().IndexOfAny('\r', '\n');
        var line = end < 0 ? text : text[..end];
        var words = line.Split((char[]?)null, MostWords + 1, StringSplitOptions.RemoveEmptyEntries);
        if (words.Length > MostWords)
            words[MostWords] = Variable;
        for (var i = 0; i < words.Length; i++)
            words[i] = Masked(words[i]);
        return words;
    }

    // Within a word, each run of letters and digits that holds a digit is variable: "took=35ms," is "took={},".
    private static string Masked(string word)
    {
        if (word == Variable)
            return word;
        var masked = new System.Text.StringBuilder(word.Length);
        for (var at = 0; at < word.Length;)
        {
            if (!Part(word[at]))
            {
                masked.Append(word[at] switch { '{' => "{{", '}' => "}}", var c => c.ToString() });
                at++;
                continue;
            }
            var from = at;
            while (at < word.Length && (Part(word[at]) || (word[at] is '.' or ':' or '-' or '+' && at + 1 < word.Length && Part(word[at + 1]) && word.AsSpan(from, at - from).IndexOfAnyInRange('0', '9') >= 0)))
                at++;
            var run = word.AsSpan(from, at - from);
            masked.Append(run.IndexOfAnyInRange('0', '9') >= 0 ? Variable : run);
        }
        return masked.ToString();
    }

    private static bool Part(char c) => char.IsLetterOrDigit(c) || c == '_';
}
