using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>An act Skevin may do to cure a cause.</summary>
public enum CureAct
{
    /// <summary>Only a person can.</summary>
    None,

    /// <summary>Apply the plan's objects again.</summary>
    ApplyAgain,

    /// <summary>Make a new ingest token and put it into the cluster's secret.</summary>
    HandOutToken,
}

/// <summary>Why something does not arrive.</summary>
/// <param name="Short">A few words for a table.</param>
/// <param name="Text">What happened, and what it means.</param>
/// <param name="Fix">The one thing to do.</param>
/// <param name="Act">The act that does it.</param>
/// <param name="Proof">The raw evidence, line by line.</param>
public sealed record Cause(string Short, string Text, string Fix, CureAct Act, IReadOnlyList<string> Proof);

/// <summary>A rule from evidence to cause. It says nothing when its case is not proved.</summary>
public interface IDiagnosisRule
{
    /// <summary>The cause, or null.</summary>
    Cause? Find(JudgedSource source);
}

/// <summary>All rules, the most certain first.</summary>
public static class Diagnoses
{
    private static readonly IDiagnosisRule[] Rules =
    [
        new NodeWithoutNetwork(), new NodeLost(), new DiskFull(), new LinesLost(), new MachineSilent(), new TokenReplaced(), new TokenUnknown(), new RightMissing(), new AgentMissing(), new ImageForbidden(), new ImageNotPulled(), new AgentKilledForMemory(), new AgentNotReady(), new OtherConfiguration(), new AgentOfEarlierRevision(), new TargetNotReady(),
        new ConnectionRefused(), new NothingAtPath(), new MalformedExposition(), new TracesNotGathered(), new ReadFailed(), new NoSpansSent(), new CatchingUp(), new NothingHeard(),
    ];

    /// <summary>The first cause that is proved; null where nothing is wrong.</summary>
    public static Cause? Of(JudgedSource source) => source.State is ArrivalState.OnTime or ArrivalState.Off or ArrivalState.Starting
        ? null
        : Rules.Select(rule => rule.Find(source)).FirstOrDefault(cause => cause is not null);
}
