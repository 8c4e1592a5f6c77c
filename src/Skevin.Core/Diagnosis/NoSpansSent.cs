using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The agents are well, but the workload sends them no spans.</summary>
public sealed class NoSpansSent : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source)
    {
        if (source.Evidence.Expected is not { Kind: SourceKind.WorkloadSpans, Agent.Ready: true, Target: { } pod } || source.State is not (ArrivalState.Late or ArrivalState.Silent))
            return null;
        return new Cause(
            "the workload sends no spans",
            $"{pod.Namespace}/{pod.Workload} is told by its environment where to send spans, but {(source.State == ArrivalState.Silent ? "none has come since the roll-out" : "none has come for a while")}.",
            "See that its SDK exports traces over HTTP and that its pods reach the agent's port on their node.",
            CureAct.None,
            [$"expected from {pod.Namespace}/{pod.Workload}: its containers set an OTLP endpoint", source.Evidence.Record is { } record ? $"last received {record.LastReceived:yyyy-MM-dd HH:mm:ss}" : "never received"]);
    }
}
