using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>Nothing is heard of a machine outside of clusters, or its token is not valid.</summary>
public sealed class MachineSilent : IDiagnosisRule
{
    // An agent asks for its plan twice a minute.
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(90);

    /// <inheritdoc/>
    public Cause? Find(JudgedSource source)
    {
        if (source.Evidence.Expected.Machine is not { } machine || source.Evidence.Report?.Error is not null && machine.TokenValid)
            return null;
        if (!machine.TokenValid)
            return new Cause("its token is revoked", $"The agent on {machine.Name} shows a token that may not push any more. It keeps what it collects until it has another.",
                $"Make a new token for {machine.Name} under Collect, Machines, and put it there.", CureAct.None, [$"token of {machine.Name} is revoked or has expired"]);
        if (machine.AskedAt is not { } asked)
            return new Cause("not set up yet", $"No agent has asked for the plan of {machine.Name} yet.",
                $"Run on {machine.Name} what Collect, Machines shows for it. It must reach this server.", CureAct.None, ["never asked for its plan"]);
        return source.Evidence.At - asked > Patience
            ? new Cause("no word from the machine", $"The agent on {machine.Name} has not asked for its plan since {asked:yyyy-MM-dd HH:mm:ss} UTC: it does not run, or does not reach this server.",
                $"Look at it with: systemctl status skevin-agent", CureAct.None, [$"asked for its plan last at {asked:yyyy-MM-dd HH:mm:ss} UTC"])
            : new Cause("it sends nothing", $"The agent on {machine.Name} asks for its plan, but sends nothing of this source.",
                $"Look at its log with: journalctl -u skevin-agent", CureAct.None, [$"asked for its plan last at {asked:yyyy-MM-dd HH:mm:ss} UTC"]);
    }
}
