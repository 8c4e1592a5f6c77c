using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The endpoint listens, but has nothing at the path the plan names.</summary>
public sealed class NothingAtPath : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.Evidence.Expected.Kind is SourceKind.Endpoint or SourceKind.RuntimePage && source.Evidence.Report is { Error: { } error } report && error.StartsWith("404", StringComparison.Ordinal)
            ? new Cause(
                "404 nothing at this path",
                source.Evidence.Expected.Kind == SourceKind.RuntimePage ? $"The node answers, but has no page under the path the plan names: {error}" : $"The port answers, but not under the path the plan names: {error}",
                source.Evidence.Expected.Kind == SourceKind.RuntimePage ? "See in the handbook of your runtime under which path its page stands, then correct the path in the plan." : "Ask the workload's owner under which path it serves its metrics, then correct the path in the plan or in the workload.",
                CureAct.None,
                [$"{report.At:HH:mm:ss} {source.Evidence.Expected.SentBy}: {error}"])
            : null;
}
