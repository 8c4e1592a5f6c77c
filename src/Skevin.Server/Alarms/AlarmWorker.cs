using Skevin.Server.Setup;

namespace Skevin.Server.Alarms;

/// <summary>Judges and tells.</summary>
public sealed class AlarmWorker(SkevinOptions options, JudgeRules judge, Telling.EscalateAlarms escalate, DeliverMessages deliver, ILogger<AlarmWorker> log)
    : SingleWorker(options.Database, 7302, TimeSpan.FromSeconds(1), "Judging alert rules", log)
{
    /// <inheritdoc/>
    protected override async Task Work(CancellationToken stop)
    {
        await judge.Run(stop);
        await escalate.Run(stop);
        await deliver.Run(stop);
    }
}
