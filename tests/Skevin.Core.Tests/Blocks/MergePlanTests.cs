using CsCheck;
using Skevin.Core.Blocks;

namespace Skevin.Core.Tests.Blocks;

public sealed class MergePlanTests
{
    private const long Hour = 3_600_000;

    private static IReadOnlyList<BlockSize>[] Plan(IEnumerable<BlockSize> blocks, long now) => [.. MergePlan.Of(blocks, now)];

    [Fact]
    public void Small_blocks_wait_for_company_until_their_hour_is_over()
    {
        var few = Enumerable.Range(0, 10).Select(i => new BlockSize("a", i, i * 1000, 10)).ToArray();
        Plan(few, Hour / 2).ShouldBeEmpty();
        Plan(few, 2 * Hour).ShouldHaveSingleItem().Select(block => block.Id).ShouldBe(Enumerable.Range(0, 10).Select(i => (long)i));
        var many = Enumerable.Range(0, 64).Select(i => new BlockSize("a", i, i * 1000, 10)).ToArray();
        Plan(many, Hour / 2).ShouldHaveSingleItem().Count.ShouldBe(64);
        // One that has grown is not written again with every dozen of small ones.
        Plan([.. few, new BlockSize("a", 99, 0, 3000)], Hour / 2).ShouldBeEmpty();
        Plan([.. many, new BlockSize("a", 99, 0, 3000)], Hour / 2).ShouldHaveSingleItem().ShouldNotContain(block => block.Id == 99);
        Plan([new BlockSize("a", 1, 0, 9)], 5 * Hour).ShouldBeEmpty();
    }

    [Fact]
    public void Each_block_is_merged_once_and_only_with_its_own_kind_and_hour() =>
        Gen.Select(Gen.Char["ab"], Gen.Long[0, 4 * Hour], Gen.Int[1, MergePlan.Whole / 2]).Array[0, 300].Sample(given =>
        {
            var plan = Plan(given.Select((one, i) => new BlockSize(one.Item1.ToString(), i, one.Item2, one.Item3)), 3 * Hour);
            var merged = plan.SelectMany(together => together).ToArray();
            merged.Select(block => block.Id).ShouldBeUnique();
            foreach (var together in plan)
            {
                together.Count.ShouldBeGreaterThan(1);
                together.Select(block => (block.Group, block.From / Hour)).Distinct().ShouldHaveSingleItem();
                together.SkipLast(1).Sum(block => block.Rows).ShouldBeLessThan(MergePlan.Whole);
            }
        }, iter: 2000);

    [Fact]
    public void A_row_is_written_again_a_few_times_only()
    {
        // A day at five blocks of nine rows a second, merged every five seconds as the worker does.
        var (blocks, next, written, came) = (new List<BlockSize>(), 0L, 0L, 0L);
        for (var second = 0L; second < 6 * 3600; second++)
        {
            for (var i = 0; i < 5; i++)
                blocks.Add(new BlockSize("a", next++, second * 1000, 9));
            came += 45;
            if (second % 5 != 0)
                continue;
            foreach (var together in Plan(blocks.Where(block => block.Rows < MergePlan.Whole / 2), second * 1000))
            {
                written += together.Sum(block => block.Rows);
                blocks.RemoveAll(block => together.Contains(block));
                blocks.Add(new BlockSize("a", next++, together[0].From, together.Sum(block => block.Rows)));
            }
        }
        (written / (double)came).ShouldBeLessThan(4);
        blocks.Count.ShouldBeLessThan(300);
    }
}
