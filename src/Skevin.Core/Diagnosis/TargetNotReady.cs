using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;

namespace Skevin.Core.Diagnosis;

/// <summary>The pod whose endpoint is read is not ready.</summary>
public sealed class TargetNotReady : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source)
    {
        if (source.Evidence.Expected.Target is not { Ready: false } target)
            return null;
        var why = string.Join(" ", HealthOf.Pod(target, null).Because);
        return new Cause(
            "the pod itself is not ready",
            $"Collection is in order, but {target.Namespace}/{target.Name} is not ready. {why}",
            "See the pod under Clusters.",
            CureAct.None,
            [$"pod {target.Namespace}/{target.Name}: {target.Phase}, {why}"]);
    }
}
