using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>There is no agent where one should be.</summary>
public sealed class AgentMissing : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) => source.Evidence.Expected is { Agent: null, Machine: null }
        ? new Cause(
            "no agent there",
            $"The plan is in force, but there is no pod of the {source.Evidence.Expected.SentBy}.",
            "Apply the plan again, then see under Collect why its pod does not start.",
            CureAct.ApplyAgain,
            [$"no pod for {source.Evidence.Expected.SentBy} in namespace {Collection.Manifests.Namespace}"])
        : null;
}
