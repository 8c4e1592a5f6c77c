namespace Skevin.Core.Logs;

/// <summary>Says which lines go on from the one before: stack traces and other texts a program prints in several lines. Common practice, no source.</summary>
public static class LineJoining
{
    private static readonly string[] Beginnings = ["Caused by:", "Suppressed:", "During handling of the above", "The above exception was"];

    /// <summary>Most characters that are joined.</summary>
    public const int Longest = 64 * 1024;

    /// <summary>Whether a line goes on from the one before: it is indented, closes a bracket, or names the cause of what stands above.</summary>
    public static bool GoesOn(string line) => line.Length > 0
        && (line[0] is ' ' or '\t' or '}' or ')' || line.StartsWith("... ", StringComparison.Ordinal) || Beginnings.Any(beginning => line.StartsWith(beginning, StringComparison.Ordinal)));
}
