using Npgsql;

namespace Skevin.Server.Setup;

/// <summary>Work that one server does at a time: whoever holds the advisory lock. What is thrown interrupts it; it is taken up again.</summary>
/// <param name="database">Connection string.</param>
/// <param name="lockNumber">Number of the advisory lock.</param>
/// <param name="every">How often it is done.</param>
/// <param name="what">What it is, for the log.</param>
/// <param name="log">Receives interruptions.</param>
public abstract class SingleWorker(string database, long lockNumber, TimeSpan every, string what, ILogger log) : BackgroundService
{
    /// <summary>Does it once.</summary>
    protected abstract Task Work(CancellationToken stop);

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
                log.LogWarning(trouble, "{What} was interrupted; it is taken up again", what);
            }
            await Task.Delay(TimeSpan.FromSeconds(2), stoppingToken).ContinueWith(_ => { }, TaskScheduler.Default);
        }
    }

    // The lock lives as long as its own connection, so a dead server gives it up by itself.
    private async Task Hold(CancellationToken stop)
    {
        var unpooled = new NpgsqlConnectionStringBuilder(database) { Pooling = false };
        await using var connection = new NpgsqlConnection(unpooled.ConnectionString);
        await connection.OpenAsync(stop);
        await using var command = new NpgsqlCommand($"select pg_try_advisory_lock({lockNumber})", connection);
        if (await command.ExecuteScalarAsync(stop) is not true)
            return;
        using var timer = new PeriodicTimer(every);
        while (await timer.WaitForNextTickAsync(stop))
        {
            await using var alive = new NpgsqlCommand("select 1", connection);
            await alive.ExecuteScalarAsync(stop);
            var began = System.Diagnostics.Stopwatch.GetTimestamp();
            await Work(stop);
            OwnMetrics.Worked(what, began);
        }
    }
}
