using Skevin.Core.Arrivals;
using Skevin.Core.Collection;

namespace Skevin.Core.Diagnosis;

/// <summary>Spans wait on the nodes, because the collector in which traces are gathered does not take them.</summary>
public sealed class TracesNotGathered : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) => source.Evidence.Expected.Signal == "traces" && source.Evidence.Report is { Error: { } error } report && error.StartsWith(ExpectedSources.NotGathered, StringComparison.Ordinal)
        ? new Cause(
            "traces are not gathered",
            $"The agents cannot hand spans to {Manifests.TraceCollector}, which holds traces until they are whole. They wait on the nodes' disks and are sent when it is back.",
            $"See the pod of {Manifests.Namespace}/{Manifests.TraceCollector} under Clusters. To go on without it, switch off under Collect that traces are judged whole.",
            CureAct.None,
            [$"{report.At:HH:mm:ss} {source.Evidence.Expected.SentBy}: {error}"])
        : null;
}
