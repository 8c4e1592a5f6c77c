using Npgsql;
using Skevin.Server.Setup;

namespace Skevin.Server.Alarms;

/// <summary>Judges and tells, on one server at a time: whoever holds the advisory lock.</summary>
public sealed class AlarmWorker(SkevinOptions options, JudgeRules judge, DeliverMessages deliver, ILogger<AlarmWorker> log) : BackgroundService
{
    private const long LockNumber = 7302;

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await Hold(stoppingToken);
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                return;
            }
            catch (Exception trouble)
            {
                log.LogWarning(trouble, "Judging alert rules was interrupted; it is taken up again");
            }
            await Task.Delay(TimeSpan.FromSeconds(2), stoppingToken).ContinueWith(_ => { }, TaskScheduler.Default);
        }
    }

    // The lock lives as long as its own connection, so a dead server gives it up by itself.
    private async Task Hold(CancellationToken stop)
    {
        var unpooled = new NpgsqlConnectionStringBuilder(options.Database) { Pooling = false };
        await using var connection = new NpgsqlConnection(unpooled.ConnectionString);
        await connection.OpenAsync(stop);
        await using var command = new NpgsqlCommand($"select pg_try_advisory_lock({LockNumber})", connection);
        if (await command.ExecuteScalarAsync(stop) is not true)
            return;
        using var timer = new PeriodicTimer(TimeSpan.FromSeconds(1));
        while (await timer.WaitForNextTickAsync(stop))
        {
            await using var alive = new NpgsqlCommand("select 1", connection);
            await alive.ExecuteScalarAsync(stop);
            await judge.Run(stop);
            await deliver.Run(stop);
        }
    }
}
