namespace Skevin.Server.Setup;

/// <summary>How long each signal is kept, in days; what is left out is kept as long as the installation keeps anything.</summary>
public sealed record RetentionSetting(int? Metrics = null, int? Logs = null, int? Traces = null, int? Flows = null);

/// <summary>How long each signal is kept, in days.</summary>
/// <param name="Most">What SKEVIN_RETENTION_DAYS allows.</param>
/// <param name="Summaries">How long summaries of samples are kept.</param>
public sealed record RetentionView(int Metrics, int Logs, int Traces, int Flows, int Most, int Summaries);

/// <summary>Retention by signal, for all clusters: the days of a table go as a whole. Read again with each housekeeping, so that other servers follow.</summary>
public sealed class Retentions(Settings settings, SkevinOptions options)
{
    private const string Name = "retention";
    private volatile RetentionSetting _setting = new();

    /// <summary>How long a signal is kept.</summary>
    public TimeSpan Of(string signal) => Days(signal switch { "metrics" => _setting.Metrics, "logs" => _setting.Logs, "traces" => _setting.Traces, "flows" => _setting.Flows, _ => null });

    /// <summary>All of them.</summary>
    public RetentionView View
    {
        get
        {
            int Of(string signal) => (int)this.Of(signal).TotalDays;
            return new(Of("metrics"), Of("logs"), Of("traces"), Of("flows"), (int)options.Retention.TotalDays, (int)options.SummaryRetention.TotalDays);
        }
    }

    /// <summary>Reads what is set.</summary>
    public async Task Load(CancellationToken stop) => _setting = await settings.Read<RetentionSetting>(Name, stop) ?? new();

    /// <summary>Sets it; what is older goes with the next housekeeping.</summary>
    public async Task<Outcome<RetentionView>> Set(RetentionSetting setting, CancellationToken stop)
    {
        var most = (int)options.Retention.TotalDays;
        if (new[] { setting.Metrics, setting.Logs, setting.Traces, setting.Flows }.Any(days => days < 1 || days > most))
            return new Problem(400, "That long nothing is kept.", $"Each signal is kept 1 to {most} days; the server's SKEVIN_RETENTION_DAYS sets the most.");
        await settings.Write(Name, setting, stop);
        _setting = setting;
        return View;
    }

    private TimeSpan Days(int? days) => days is { } given && given < options.Retention.TotalDays ? TimeSpan.FromDays(given) : options.Retention;
}
