using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The agents push with a token that was replaced or revoked.</summary>
public sealed class TokenReplaced : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.State == ArrivalState.Refused && source.Evidence.Refusal is { TokenReplaced: { } replaced } refusal
            ? new Cause(
                "401 ingest token replaced",
                $"The token the agents send with was replaced at {replaced:yyyy-MM-dd HH:mm:ss} UTC, and the cluster still holds the old one. "
                + $"Their pushes have been refused {refusal.Times} times since; they keep the data in their buffers and send it once they have a valid token.",
                "Hand out a new token: Skevin makes one and puts it into the cluster's secret. No pod has to restart.",
                CureAct.HandOutToken,
                [
                    $"{refusal.At:HH:mm:ss} POST /v1/metrics 401, token revoked",
                    $"{replaced:HH:mm:ss} token revoked in Skevin",
                ])
            : null;
}
