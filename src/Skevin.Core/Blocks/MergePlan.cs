namespace Skevin.Core.Blocks;

/// <summary>A block as the store knows it without opening it.</summary>
/// <param name="Group">What may be merged with what: cluster, day and kind.</param>
/// <param name="Id">Its number.</param>
/// <param name="From">Time of its first row, epoch milliseconds.</param>
/// <param name="Rows">How many rows.</param>
public readonly record struct BlockSize(string Group, long Id, long From, int Rows);

/// <summary>
/// Which small blocks become one. Blocks that come in are small, and many small ones cost more to read than a large one. Each row is written
/// again three to four times: once when some dozens of blocks have come, once when these have grown to a few thousand rows, once when its hour is over.
/// </summary>
public static class MergePlan
{
    /// <summary>Rows of a block that is large enough.</summary>
    public const int Whole = 65_536;

    private const int FewRows = 2048;
    private const int ManySmall = 64;
    private const int ManyMiddling = 16;
    private const long Hour = 3_600_000;
    private const long Settled = 10 * 60_000;

    /// <summary>Groups of block numbers to merge, each at most about <see cref="Whole"/> rows.</summary>
    /// <param name="blocks">All blocks below half of <see cref="Whole"/>.</param>
    /// <param name="now">Epoch milliseconds.</param>
    public static IEnumerable<IReadOnlyList<BlockSize>> Of(IEnumerable<BlockSize> blocks, long now)
    {
        foreach (var hour in blocks.GroupBy(block => (block.Group, Hour: block.From / Hour)))
        {
            var over = (hour.Key.Hour + 1) * Hour + Settled < now;
            var tiers = over ? hour.GroupBy(_ => 0) : hour.GroupBy(block => block.Rows < FewRows ? 0 : 1);
            foreach (var tier in tiers)
                if (tier.Count() >= (over ? 2 : tier.Key == 0 ? ManySmall : ManyMiddling))
                    foreach (var together in Chunks(tier.OrderBy(block => block.From).ThenBy(block => block.Id)))
                        yield return together;
        }
    }

    private static IEnumerable<IReadOnlyList<BlockSize>> Chunks(IEnumerable<BlockSize> ordered)
    {
        var (together, rows) = (new List<BlockSize>(), 0);
        foreach (var block in ordered)
        {
            together.Add(block);
            if ((rows += block.Rows) < Whole)
                continue;
            yield return together;
            (together, rows) = ([], 0);
        }
        if (together.Count > 1)
            yield return together;
    }
}
