using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>The agent has no room to keep what it would read.</summary>
public sealed class DiskFull : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) => source.Evidence.Report is { Error: { } error } report && error.StartsWith("the node's disk is full", StringComparison.Ordinal)
        ? new Cause(
            $"the disk of {report.Agent} is full",
            $"The agent on {report.Agent} has stopped reading: {error[(error.IndexOf(':') + 2)..]}. It does not fill up a node's disk itself; lines stay in the containers' files and are read later, as long as the runtime keeps them.",
            $"Make room on {report.Agent}; the agent goes on by itself.",
            CureAct.None,
            [$"agent on {report.Agent}, {report.At:HH:mm:ss}: {error}"])
        : null;
}
