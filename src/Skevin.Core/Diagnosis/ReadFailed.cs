using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The agent cannot read the source, for a reason no other rule knows.</summary>
public sealed class ReadFailed : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) => source.Evidence.Report is { Error: { } error } report
        ? new Cause(
            "the agent cannot read it",
            $"The {source.Evidence.Expected.SentBy} says: {error}",
            "Check path, port and name of the source.",
            CureAct.None,
            [$"{report.At:HH:mm:ss} {source.Evidence.Expected.SentBy}: {error}"])
        : null;
}
