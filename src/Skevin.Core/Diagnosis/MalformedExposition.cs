using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The endpoint answers, but not in a form that can be read.</summary>
public sealed class MalformedExposition : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.Evidence.Report is { Error: { } error } report && error.StartsWith("malformed", StringComparison.Ordinal)
            ? new Cause(
                "the exposition is malformed",
                $"The endpoint answers, but its text breaks the exposition format: {error["malformed".Length..].TrimStart(':', ' ')}.",
                "Correct the application's exposition; families before that line are still read.",
                CureAct.None,
                [$"{report.At:HH:mm:ss} {source.Evidence.Expected.SentBy}: {error}"])
            : null;
}
