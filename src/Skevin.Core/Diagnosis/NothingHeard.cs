using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>Nothing is received and nobody says why.</summary>
public sealed class NothingHeard : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) => source.State is ArrivalState.Late or ArrivalState.Silent
        ? new Cause(
            "no word from the agent",
            $"The {source.Evidence.Expected.SentBy} is ready, but neither data nor a status record of this source comes from it.",
            "Read the agent's own status and log under Collect.",
            CureAct.None,
            [source.Evidence.Record is { } record ? $"last received {record.LastReceived:yyyy-MM-dd HH:mm:ss}" : "never received"])
        : null;
}
