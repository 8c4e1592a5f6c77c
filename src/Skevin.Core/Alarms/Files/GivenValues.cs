using System.Globalization;
using System.Text.RegularExpressions;

namespace Skevin.Core.Alarms.Files;

/// <summary>
/// Values in few words, parted by commas: a number; <c>none</c> for no sample; <c>a..b xN</c> for N values from a to b in equal steps;
/// each may be repeated by <c>xN</c>.
/// </summary>
public static partial class GivenValues
{
    private const int Most = 100_000;

    /// <summary>Reads them; NaN stands for no sample.</summary>
    /// <exception cref="FormatException">A part cannot be read; says which.</exception>
    public static double[] Read(string text)
    {
        var values = new List<double>();
        foreach (var part in text.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
        {
            var match = Part().Match(part);
            if (!match.Success || !int.TryParse(match.Groups["times"].Success ? match.Groups["times"].Value : "1", NumberStyles.None, CultureInfo.InvariantCulture, out var times) || times == 0 || values.Count + (long)times > Most)
                throw new FormatException($"'{part}' is no value: write 100, 100 x8, none x2 or 100..500 x10, at most {Most:N0} in all.");
            if (match.Groups["none"].Success)
            {
                values.AddRange(Enumerable.Repeat(double.NaN, times));
                continue;
            }
            var first = Number(match.Groups["first"].Value, part);
            var last = match.Groups["last"].Success ? Number(match.Groups["last"].Value, part) : first;
            for (var i = 0; i < times; i++)
                values.Add(times == 1 ? last : first + (last - first) * i / (times - 1));
        }
        return values.Count > 0 ? [.. values] : throw new FormatException("There are no values.");
    }

    private static double Number(string text, string part) => double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) && double.IsFinite(number) ? number : throw new FormatException($"'{part}' holds no finite number.");

    [GeneratedRegex(@"^(?:(?<none>none)|(?<first>[-+]?(?:[0-9]+(?:\.[0-9]+)?|\.[0-9]+)(?:[eE][-+]?[0-9]+)?)(?:\.\.(?<last>[-+]?(?:[0-9]+(?:\.[0-9]+)?|\.[0-9]+)(?:[eE][-+]?[0-9]+)?))?)(?:\s+x(?<times>[0-9]{1,6}))?$", RegexOptions.NonBacktracking)]
    private static partial Regex Part();
}
