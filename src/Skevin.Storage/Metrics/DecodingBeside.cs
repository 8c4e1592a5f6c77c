namespace Skevin.Storage.Metrics;

/// <summary>Decodes blocks on the other cores while the next are read from the database.</summary>
internal static class DecodingBeside
{
    /// <summary>Takes blocks one by one and gives them on decoded, in their order.</summary>
    /// <param name="next">Reads the next block; null at the end.</param>
    /// <param name="decode">Runs beside other calls of it.</param>
    /// <param name="then">Takes what was decoded, one after the other.</param>
    public static async Task Run<TBlock, T>(Func<Task<TBlock?>> next, Func<TBlock, T> decode, Action<TBlock, T> then) where TBlock : class
    {
        var under = new Queue<(TBlock Block, Task<T> Decoded)>();
        while (await next() is { } block)
        {
            under.Enqueue((block, Task.Run(() => decode(block))));
            if (under.Count > Environment.ProcessorCount)
                await Take();
        }
        while (under.Count > 0)
            await Take();

        async Task Take()
        {
            var (block, decoded) = under.Dequeue();
            then(block, await decoded);
        }
    }
}
