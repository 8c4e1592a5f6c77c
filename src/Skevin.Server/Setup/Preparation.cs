using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Storage;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Blocks;
using Skevin.Storage.Flows;
using Skevin.Storage.Metrics;
using Skevin.Storage.Peers;
using Skevin.Storage.Traces;

namespace Skevin.Server.Setup;

/// <summary>What must be done before the server is ready: migrations, first people, the head.</summary>
public sealed class Preparation(IServiceProvider services, SkevinOptions options, TimeProvider clock, ILogger<Preparation> log)
{
    /// <summary>Newer samples are kept in memory.</summary>
    public static readonly TimeSpan HeadSpan = TimeSpan.FromHours(26);

    /// <summary>Whether all of it is done.</summary>
    public bool Done { get; private set; }

    /// <summary>Does it.</summary>
    public async Task Run(CancellationToken stop)
    {
        await using var scope = services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<SkevinContext>();
        await context.Database.MigrateAsync(stop);
        var people = scope.ServiceProvider.GetRequiredService<UserManager<Person>>();
        if (options.Demo)
            await FirstPerson(people, SkevinOptions.DemoPerson, "R. Amsel", options.DemoPassword, keepPassword: false);
        if (options.FirstPerson is { } email && options.FirstPassword is { } password && !await context.Users.AnyAsync(stop))
            await FirstPerson(people, email, email, password, keepPassword: true);

        var (store, index, head) = (services.GetRequiredService<SampleStore>(), services.GetRequiredService<SeriesIndex>(), services.GetRequiredService<Heads>());
        await services.GetRequiredService<PeerFeed>().Begin(stop);
        await store.LoadSeries(index, stop);
        var now = clock.GetUtcNow();
        head.TrimTo((now - HeadSpan).ToUnixTimeMilliseconds());
        var count = 0L;
        await store.Read(head.Start - 1, now.AddMinutes(11).ToUnixTimeMilliseconds(), null, _ => true, (series, sample) =>
        {
            if (sample.Time >= head.Start && head.Samples.Add(series, sample) == HeadAdd.Added)
                count++;
        }, stop);
        await store.ReadHistograms(head.Start - 1, now.AddMinutes(11).ToUnixTimeMilliseconds(), _ => true, (series, sample) =>
        {
            if (sample.Time >= head.Start && head.Histograms.Add(series, sample) == HeadAdd.Added)
                count++;
        }, stop);
        await services.GetRequiredService<Retentions>().Load(stop);
        await services.GetRequiredService<ArrivalBook>().Load(stop);
        await services.GetRequiredService<AddressBooks>().Load(stop);
        await services.GetRequiredService<RecentSpans>().Load(store.Database, stop);
        services.GetRequiredService<MetricsIntake>().Start();
        services.GetRequiredService<SignalIntake>().Start();
        log.LogInformation("Ready: {Series} series, {Samples} samples in memory", index.Count, count);
        Done = true;
    }

    private async Task FirstPerson(UserManager<Person> people, string email, string name, string password, bool keepPassword)
    {
        var person = await people.FindByEmailAsync(email);
        if (person is null)
        {
            person = new Person { UserName = email, Email = email, Name = name, Roles = Roles.All };
            var made = await people.CreateAsync(person, password);
            if (!made.Succeeded)
                throw new InvalidOperationException($"The person {email} cannot be made: {string.Join(" ", made.Errors.Select(error => error.Description))}");
            log.LogInformation("Made the person {Email}", email);
        }
        else if (!keepPassword && !await people.CheckPasswordAsync(person, password))
        {
            await people.RemovePasswordAsync(person);
            await people.AddPasswordAsync(person, password);
        }
    }
}

/// <summary>Trims the head and drops what is older than the retention.</summary>
public sealed class Housekeeping(SampleStore store, DayPartitions partitions, Heads head, Retentions retentions, SkevinOptions options, TimeProvider clock, ILogger<Housekeeping> log) : BackgroundService
{
    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromMinutes(10));
        try
        {
            while (await timer.WaitForNextTickAsync(stoppingToken))
                try
                {
                    var now = clock.GetUtcNow();
                    head.TrimTo((now - Preparation.HeadSpan).ToUnixTimeMilliseconds());
                    await retentions.Load(stoppingToken);
                    await partitions.DropBefore(signal => DayPartitions.DayOf((now - (signal == "summaries" ? options.SummaryRetention : retentions.Of(signal))).ToUnixTimeMilliseconds()), stoppingToken);
                    if (options.MostBytes > 0 && await partitions.DropLargest(options.MostBytes, stoppingToken) is { Count: > 0 } days)
                        log.LogWarning("The store was larger than {Bytes} bytes, so the days up to {Day} went before their time", options.MostBytes, days.Max());
                    await using var old = store.Database.CreateCommand("""
                        delete from ingest_key where received_at < now() - interval '35 days';
                        delete from arrival_minute where minute < extract(epoch from now()) / 60 - @minutes;
                        delete from address_lease where to_ms < extract(epoch from now()) * 1000 - @minutes * 60000;
                        delete from flow_record where to_ms < (extract(epoch from now()) - 3600) * 1000;
                        delete from source_status where at < now() - interval '1 day';
                        delete from rule_verdict where judged_at < now() - interval '35 days';
                        """);
                    old.Parameters.AddWithValue("minutes", options.Retention.TotalMinutes);
                    await old.ExecuteNonQueryAsync(stoppingToken);
                }
                catch (Npgsql.NpgsqlException trouble)
                {
                    log.LogWarning(trouble, "Housekeeping was interrupted; it is done again in 10 min");
                }
        }
        catch (OperationCanceledException)
        {
            // Stopping.
        }
    }
}
