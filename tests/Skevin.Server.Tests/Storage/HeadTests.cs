using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;
using Npgsql;
using Skevin.Core.Access;
using Skevin.Core.Series;
using Skevin.Storage.Blocks;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Tests.Storage;

public sealed class HeadTests
{
    [Fact]
    public void Late_samples_join_in_order_and_the_first_value_wins()
    {
        var head = new Head<Sample>();
        head.Add(1, new Sample(10, 1)).ShouldBe(HeadAdd.Added);
        head.Add(1, new Sample(30, 3)).ShouldBe(HeadAdd.Added);
        head.Add(1, new Sample(20, 2)).ShouldBe(HeadAdd.Added);
        head.Add(1, new Sample(20, 2)).ShouldBe(HeadAdd.Same);
        head.Add(1, new Sample(20, 9)).ShouldBe(HeadAdd.Conflict);
        head.Look(1, new Sample(30, 4)).ShouldBe(HeadAdd.Conflict);
        head.Look(2, new Sample(30, 4)).ShouldBe(HeadAdd.Added);
        head.Read(1, 0, 100).Select(sample => sample.Value).ShouldBe([1, 2, 3]);
    }

    [Theory]
    [InlineData(10, 30, new[] { 20.0, 30 })]
    [InlineData(9, 10, new[] { 10.0 })]
    [InlineData(30, 99, new double[0])]
    [InlineData(-5, 5, new double[0])]
    public void A_read_leaves_from_out_and_takes_to_in(long from, long to, double[] values)
    {
        var head = new Head<Sample>();
        foreach (var time in new long[] { 10, 20, 30 })
            head.Add(7, new Sample(time, time));
        head.Read(7, from, to).Select(sample => sample.Value).ShouldBe(values);
        head.Has(7, from, to).ShouldBe(values.Length > 0);
    }

    [Fact]
    public void Trimming_lets_go_of_what_is_older_and_of_empty_series()
    {
        var head = new Head<Sample>();
        head.Add(1, new Sample(10, 1));
        head.Add(1, new Sample(20, 2));
        head.Add(2, new Sample(5, 1));
        head.TrimTo(15);
        head.Start.ShouldBe(15);
        head.Read(1, 0, 100).ShouldHaveSingleItem().Time.ShouldBe(20);
        head.Has(2, 0, 100).ShouldBeFalse();
        head.TrimTo(3);
        head.Start.ShouldBe(15);
    }

    [Fact]
    public void It_agrees_with_a_sorted_dictionary_whatever_comes()
    {
        var random = new Random(3);
        var (head, model) = (new Head<Sample>(), new SortedDictionary<long, double>());
        for (var i = 0; i < 4000; i++)
        {
            var (time, value) = (random.Next(1500), (double)random.Next(4));
            var expected = model.TryGetValue(time, out var there) ? there.Equals(value) ? HeadAdd.Same : HeadAdd.Conflict : HeadAdd.Added;
            head.Look(1, new Sample(time, value)).ShouldBe(expected);
            head.Add(1, new Sample(time, value)).ShouldBe(expected);
            model.TryAdd(time, value);
            var (from, to) = (random.Next(1500), random.Next(1500));
            if (i % 50 == 0)
                head.Read(1, from, to).Select(sample => (sample.Time, sample.Value)).ShouldBe(model.Where(pair => pair.Key > from && pair.Key <= to).Select(pair => (pair.Key, pair.Value)));
        }
    }

    [Fact]
    public void Labels_are_equal_by_content_and_their_bytes_tell_them_apart()
    {
        static Labels Of(params (string, string)[] pairs) => Labels.From(pairs.Select(pair => new KeyValuePair<string, string>(pair.Item1, pair.Item2)));
        Of(("a", "1"), ("b", "2")).ShouldBe(Of(("b", "2"), ("a", "1")));
        Of(("a", "1"), ("b", "")).ShouldBe(Of(("a", "1")));
        Of(("a", "1b")).Canonical().ShouldNotBe(Of(("a", "1"), ("b", "")).Canonical());
        Of(("ab", "c")).Canonical().ShouldNotBe(Of(("a", "bc")).Canonical());
        var key = new SeriesKey("m", SeriesKind.Gauge, "1", Of(("a", "1")));
        key.Hash(1).ShouldBe(new SeriesKey("m", SeriesKind.Gauge, "1", Of(("a", "1"))).Hash(1));
        key.Hash(1).ShouldNotBe(key.Hash(2));
        key.Hash(1).ShouldNotBe((key with { Kind = SeriesKind.Counter }).Hash(1));
    }

    [Fact]
    public void Fields_have_short_names_and_a_workload_is_the_first_present()
    {
        var labels = Labels.From([new("k8s.namespace.name", "auction"), new("k8s.statefulset.name", "lot-cache"), new("k8s.job.name", "j")]);
        FieldNames.Value(labels, "namespace").ShouldBe("auction");
        FieldNames.Value(labels, "k8s.namespace.name").ShouldBe("auction");
        FieldNames.Value(labels, "workload").ShouldBe("lot-cache");
        FieldNames.Value(labels, "pod").ShouldBeNull();
        FieldNames.Shortest("k8s.job.name").ShouldBe("workload");
        FieldNames.Shortest("quantile").ShouldBe("quantile");
    }
}

/// <summary>Day partitions and their end.</summary>
public sealed class RetentionTests(RunningServer server) : IClassFixture<RunningServer>
{
    [Fact]
    public async Task Days_older_than_the_retention_are_detached_and_dropped_and_no_others()
    {
        var (_, token) = await server.ClusterWithToken("retention");
        var now = DateTimeOffset.UtcNow;
        (await server.Anonymous().Push(token, OtlpBuilder.Request("m", "1", false, [(now, 1), (now.AddDays(-3), 2), (now.AddDays(-9), 3)]))).IsSuccessStatusCode.ShouldBeTrue();
        var store = new SampleStore(NpgsqlDataSource.Create(server.Database));
        async Task<long[]> Days()
        {
            var counts = new List<long>();
            await using var command = store.Database.CreateCommand("select sum(samples) from sample_batch group by day order by day");
            await using var reader = await command.ExecuteReaderAsync();
            while (await reader.ReadAsync())
                counts.Add(reader.GetInt64(0));
            return [.. counts];
        }
        (await Days()).ShouldBe([1, 1, 1]);
        await new DayPartitions(store.Database).DropBefore(DayPartitions.DayOf(now.AddDays(-5).ToUnixTimeMilliseconds()), DayPartitions.DayOf(now.AddDays(-5).ToUnixTimeMilliseconds()), CancellationToken.None);
        (await Days()).ShouldBe([1, 1]);
        await new DayPartitions(store.Database).DropBefore(DayPartitions.DayOf(now.AddDays(-5).ToUnixTimeMilliseconds()), DayPartitions.DayOf(now.AddDays(-5).ToUnixTimeMilliseconds()), CancellationToken.None);
        (await Days()).ShouldBe([1, 1]);
        var read = new List<SeriesSample>();
        await store.Read(now.AddDays(-10).ToUnixTimeMilliseconds(), now.AddMinutes(1).ToUnixTimeMilliseconds(), null, _ => true, (series, sample) => read.Add(new SeriesSample(series, sample)), CancellationToken.None);
        read.Select(sample => sample.Sample.Value).ShouldBe([2, 1], ignoreOrder: true);
    }

    [Fact]
    public async Task Summaries_outlive_the_samples_they_were_made_of()
    {
        var (cluster, token) = await server.ClusterWithToken("outlived");
        var begin = DateTimeOffset.UtcNow.AddDays(-4).UtcDateTime.Date;
        var points = Enumerable.Range(1, 240).Select(i => (new DateTimeOffset(begin, TimeSpan.Zero).AddMinutes(i), (double)i));
        (await server.Anonymous().Push(token, OtlpBuilder.Request("outlived", "By", false, points))).IsSuccessStatusCode.ShouldBeTrue();
        var (database, index) = (NpgsqlDataSource.Create(server.Database), server.Services.GetRequiredService<SeriesIndex>());
        var (store, partitions) = (new SampleStore(database), new DayPartitions(database));
        await new SampleFolding(store, index, partitions, new FakeTimeProvider(DateTimeOffset.UtcNow.AddMinutes(10))).Run(CancellationToken.None);
        await partitions.DropBefore(DateOnly.FromDateTime(begin).AddDays(1), DateOnly.FromDateTime(begin), CancellationToken.None);
        var reader = new ScopedReader(store, index, server.Services.GetRequiredService<Heads>(), AccessScope.Everything, "outlived", long.MinValue);
        var series = await reader.Find("outlived", 0, long.MaxValue, CancellationToken.None);
        var (from, to) = (new DateTimeOffset(begin, TimeSpan.Zero).ToUnixTimeMilliseconds(), new DateTimeOffset(begin, TimeSpan.Zero).AddHours(4).ToUnixTimeMilliseconds());
        (await reader.Read(series, from, to, CancellationToken.None))[0].ShouldBeEmpty();
        foreach (var width in SummaryRun.Widths)
            (await reader.ReadSummaries(series, from, to, width, CancellationToken.None))[0].Summaries.Select(one => one.Max)
                .ShouldBe(Enumerable.Range(1, (int)(4 * 3_600_000 / width)).Select(i => i * width / 60_000.0));
        await partitions.DropBefore(DateOnly.FromDateTime(begin).AddDays(1), DateOnly.FromDateTime(begin).AddDays(1), CancellationToken.None);
        (await reader.ReadSummaries(series, from, to, SummaryRun.Widths[0], CancellationToken.None))[0].Summaries.ShouldBeEmpty();
    }
}
