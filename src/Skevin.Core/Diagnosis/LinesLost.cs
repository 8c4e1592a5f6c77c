using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The container runtime has taken log files away before the agent read them.</summary>
public sealed class LinesLost : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) => source.Evidence.Report is { Error: { } error } report && error.StartsWith("lines were lost", StringComparison.Ordinal)
        ? new Cause(
            "lines were lost by rotation",
            $"{char.ToUpperInvariant(error[0])}{error[1..]}. How many there were cannot be known. The container writes more than the runtime keeps between two looks of the agent.",
            "Let the node's runtime keep larger or more log files (containerLogMaxSize, containerLogMaxFiles), or find out why it writes so much: Collect, Trim shows its kinds of line.",
            CureAct.None,
            [$"agent on {report.Agent}, {report.At:HH:mm:ss}: {error}"])
        : null;
}
