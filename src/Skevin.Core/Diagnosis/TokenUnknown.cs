using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The agent says its pushes are answered with 401, and the token is none Skevin ever gave out.</summary>
public sealed class TokenUnknown : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.State == ArrivalState.Refused && source.Evidence.Refusal is { TokenReplaced: null } refusal
            ? new Cause(
                "401 unknown ingest token",
                "The agents push with a token Skevin never gave out. The secret in the cluster was changed by other hands.",
                "Hand out a new token: Skevin makes one and puts it into the cluster's secret.",
                CureAct.HandOutToken,
                [$"{refusal.At:HH:mm:ss} POST /v1/metrics 401, token unknown"])
            : null;
}
