using System.Globalization;

namespace Skevin.Core.Clusters;

/// <summary>
/// Resource quantities of the cluster API: <c>250m</c> is 0.25, <c>Mi</c> is 2^20, <c>M</c> is 10^6.
/// Source: cluster documentation, "Resource units".
/// </summary>
public static class Quantity
{
    private static readonly Dictionary<string, double> Factors = new()
    {
        [""] = 1, ["n"] = 1e-9, ["u"] = 1e-6, ["m"] = 1e-3, ["k"] = 1e3, ["M"] = 1e6, ["G"] = 1e9, ["T"] = 1e12, ["P"] = 1e15,
        ["E"] = 1e18, ["Ki"] = 1024, ["Mi"] = 1048576, ["Gi"] = 1073741824, ["Ti"] = 1099511627776, ["Pi"] = 1125899906842624,
        ["Ei"] = 1152921504606846976,
    };

    /// <summary>The number in base units, or null where the text is no quantity.</summary>
    public static double? Parse(string? text)
    {
        if (string.IsNullOrEmpty(text))
            return null;
        var end = text.Length;
        while (end > 0 && char.IsLetter(text[end - 1]))
            end--;
        // An exponent such as 12e6 ends in digits, so letters at the end are always a suffix.
        return Factors.TryGetValue(text[end..], out var factor)
            && double.TryParse(text.AsSpan(0, end), NumberStyles.Float, CultureInfo.InvariantCulture, out var number)
            ? number * factor
            : null;
    }
}
