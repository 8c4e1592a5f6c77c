using System.Threading.Channels;
using Npgsql;
using Skevin.Server.Setup;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Peers;

namespace Skevin.Server.Live;

/// <summary>Follows what other servers on the same database take in.</summary>
public sealed class PeerFollower(PeerFeed peers, ArrivalBook arrivals, Preparation preparation, ILogger<PeerFollower> log) : BackgroundService
{
    /// <summary>How far an answer of one server may be behind what another has just accepted.</summary>
    public static readonly TimeSpan Every = TimeSpan.FromSeconds(1);

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(Every);
        try
        {
            for (var look = 0; await timer.WaitForNextTickAsync(stoppingToken); look++)
                try
                {
                    if (!preparation.Done)
                        continue;
                    var followed = await peers.Follow(stoppingToken);
                    // What agents say of their sources goes to whichever server they reach.
                    if (followed > 0 && look % 5 == 0)
                        await arrivals.LoadReports(stoppingToken);
                }
                catch (Exception trouble) when (trouble is NpgsqlException or FormatException)
                {
                    log.LogWarning(trouble, "What other servers took in could not be read; it is read again in a second");
                }
        }
        catch (OperationCanceledException)
        {
            // Stopping.
        }
    }
}

/// <summary>Carries what changed between servers, through PostgreSQL's notifications, so that every open page hears of it.</summary>
public sealed class PeerLive(SkevinOptions options, NpgsqlDataSource database, LiveFeed feed, ILogger<PeerLive> log) : BackgroundService
{
    private const string Topic = "skevin_live";
    private static readonly TimeSpan Gathered = TimeSpan.FromSeconds(0.5);
    private readonly string _own = Guid.NewGuid().ToString("N");
    private readonly Channel<LiveEvent> _told = Channel.CreateBounded<LiveEvent>(new BoundedChannelOptions(1000) { FullMode = BoundedChannelFullMode.DropOldest });

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        feed.Told += change => _told.Writer.TryWrite(change);
        await Task.WhenAll(Again(Send, stoppingToken), Again(Listen, stoppingToken));
    }

    private async Task Again(Func<CancellationToken, Task> work, CancellationToken stop)
    {
        while (!stop.IsCancellationRequested)
            try
            {
                await work(stop);
            }
            catch (OperationCanceledException) when (stop.IsCancellationRequested)
            {
                return;
            }
            catch (Exception trouble) when (trouble is NpgsqlException or IOException)
            {
                log.LogWarning(trouble, "Changes cannot be told to other servers; it is tried again in 2 s");
                await Task.Delay(TimeSpan.FromSeconds(2), stop).ContinueWith(_ => { }, TaskScheduler.Default);
            }
    }

    private async Task Send(CancellationToken stop)
    {
        while (await _told.Reader.WaitToReadAsync(stop))
        {
            await Task.Delay(Gathered, stop);
            var changes = new HashSet<LiveEvent>();
            while (_told.Reader.TryRead(out var change))
                changes.Add(change);
            await using var command = database.CreateCommand($"select pg_notify('{Topic}', text) from unnest(@texts) as text");
            command.Parameters.AddWithValue("texts", changes.Select(change => $"{_own}/{change.Kind}/{change.Cluster}").ToArray());
            await command.ExecuteNonQueryAsync(stop);
        }
    }

    private async Task Listen(CancellationToken stop)
    {
        await using var connection = new NpgsqlConnection(new NpgsqlConnectionStringBuilder(options.Database) { Pooling = false }.ConnectionString);
        await connection.OpenAsync(stop);
        connection.Notification += (_, notification) =>
        {
            if (notification.Payload.Split('/', 3) is [var server, var kind, var cluster] && server != _own)
                feed.Hear(new LiveEvent(kind, cluster));
        };
        await using (var listen = new NpgsqlCommand($"listen {Topic}", connection))
            await listen.ExecuteNonQueryAsync(stop);
        while (true)
            await connection.WaitAsync(stop);
    }
}
