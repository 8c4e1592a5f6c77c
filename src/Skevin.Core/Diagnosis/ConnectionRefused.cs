using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>Nothing listens where the agent was told to read.</summary>
public sealed class ConnectionRefused : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source) =>
        source.Evidence.Report is { Error: { } error } report && error.Contains("refused", StringComparison.OrdinalIgnoreCase)
            && !source.Evidence.ReadRefused
            ? new Cause(
                "nothing listens on the port",
                $"The pod answers on no such port: {error.TrimEnd('.')}. The port it names and the port it listens on differ.",
                "Correct the container port in the workload, or the port name in the plan.",
                CureAct.None,
                [$"{report.At:HH:mm:ss} {source.Evidence.Expected.SentBy}: {error}"])
            : null;
}
