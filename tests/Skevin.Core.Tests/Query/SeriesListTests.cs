using CsCheck;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Query;

/// <summary>Series by the value of a field: the same as looking at each.</summary>
public sealed class SeriesListTests
{
    private static readonly string[] Conditions =
    [
        "pod = \"a\"", "namespace = \"b\" and pod = \"a\"", "pod = \"a\" or pod = \"b\"", "not pod = \"a\"", "pod like \"a*\"", "workload = \"a\"", "shard = \"\"", "shard = \"c\" and pod exists", "pod in (\"a\", \"b\")", "pod != \"a\" and shard = \"b\"",
    ];

    [Fact]
    public void Narrowed_and_tested_is_tested()
    {
        var value = Gen.OneOf(Gen.Const("a"), Gen.Const("b"), Gen.Const("c"), Gen.Const(""));
        Gen.Select(Gen.Select(value, value, value, value).Array[0, 30], Gen.Int[0, Conditions.Length - 1].Select(i => Conditions[i])).Sample((all, condition) =>
        {
            StoredSeries[] series = [.. all.Select((one, i) => new StoredSeries(i, 1, new SeriesKey("m", SeriesKind.Gauge, "1", Labels.From([new("k8s.pod.name", one.Item1), new("k8s.namespace.name", one.Item2), new("shard", one.Item3), new("k8s.deployment.name", one.Item4)]))))];
            var predicate = Parser.Read($"m -> where {condition}").Answered.Steps.OfType<WhereStep>().Single().Predicate;
            var test = Matching.OfLabels(predicate);
            return new SeriesList(series).Narrowed(predicate).Where(one => test(one.Key.Labels)).Select(one => one.Id).SequenceEqual(series.Where(one => test(one.Key.Labels)).Select(one => one.Id));
        });
    }
}
