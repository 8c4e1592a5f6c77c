using System.Globalization;

namespace Skevin.Core.Traces;

/// <summary>
/// Keeps a share of all traces, decided by the trace's id alone, so that every agent decides the same; the share travels with the
/// span as a rejection threshold in its trace state (<c>ot=th:…</c>). Source: OpenTelemetry specification, "TraceState: Probability
/// Sampling" (from memory): a trace is kept where its last 56 bits are at least the threshold, and stands for 2^56 / (2^56 − threshold).
/// </summary>
public static class HeadSampling
{
    private const ulong Whole = 1UL << 56;

    /// <summary>The threshold that keeps a share of all traces.</summary>
    /// <param name="share">Over 0, up to 1.</param>
    public static ulong Threshold(double share) => share >= 1 ? 0 : Whole - (ulong)Math.Max(1, Math.Round(share * Whole));

    /// <summary>Whether a trace is kept.</summary>
    public static bool Keeps(TraceId trace, ulong threshold) => (trace.Low & (Whole - 1)) >= threshold;

    /// <summary>How many traces a kept one stands for.</summary>
    public static double Weight(ulong threshold) => (double)Whole / (Whole - threshold);

    /// <summary>The threshold in a trace state, or null where it has none that can be read.</summary>
    public static ulong? Read(string traceState)
    {
        foreach (var member in traceState.Split(',', StringSplitOptions.TrimEntries))
            if (member.StartsWith("ot=", StringComparison.Ordinal))
                foreach (var part in member[3..].Split(';'))
                    if (part.StartsWith("th:", StringComparison.Ordinal) && part.Length is > 3 and <= 17
                        && ulong.TryParse(part[3..].PadRight(14, '0'), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var threshold) && threshold < Whole)
                        return threshold;
        return null;
    }

    /// <summary>A trace state that carries a threshold, other members kept.</summary>
    public static string Write(string traceState, ulong threshold)
    {
        var digits = threshold.ToString("x14", CultureInfo.InvariantCulture).TrimEnd('0');
        var own = "th:" + (digits.Length == 0 ? "0" : digits);
        var others = new List<string>();
        foreach (var member in traceState.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
            if (member.StartsWith("ot=", StringComparison.Ordinal))
                own = string.Join(';', member[3..].Split(';').Where(part => !part.StartsWith("th:", StringComparison.Ordinal)).Prepend(own));
            else
                others.Add(member);
        return string.Join(',', others.Prepend("ot=" + own));
    }
}
