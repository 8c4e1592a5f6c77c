using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The cluster API answers the agent's reading with 403: its role lacks a right.</summary>
public sealed class RightMissing : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.Evidence.Report is { Error: { } error } report && error.StartsWith("403 ", StringComparison.Ordinal)
            ? new Cause(
                "403 the role lacks a right",
                $"The cluster refuses what the agent has to read: {error[4..].TrimEnd('.')}. The plan asks for this right, so the role in the cluster is not the plan's.",
                "Apply the plan again: it restores the role. The agents need no restart.",
                CureAct.ApplyAgain,
                [$"{report.At:HH:mm:ss} {source.Evidence.Expected.SentBy}: {error}"])
            : null;
}
