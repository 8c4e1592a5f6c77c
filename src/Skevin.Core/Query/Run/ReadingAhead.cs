using System.Runtime.CompilerServices;
using System.Threading.Channels;

namespace Skevin.Core.Query.Run;

/// <summary>Reads what comes next while what came before is looked at.</summary>
internal static class ReadingAhead
{
    private const int Batches = 2;

    /// <summary>The same items in the same order, a few of them read before they are asked for. Ends reading when nobody asks any more.</summary>
    public static async IAsyncEnumerable<T> Ahead<T>(this IAsyncEnumerable<T> items, [EnumeratorCancellation] CancellationToken stop)
    {
        var channel = Channel.CreateBounded<T>(new BoundedChannelOptions(Batches) { SingleReader = true, SingleWriter = true });
        using var ended = CancellationTokenSource.CreateLinkedTokenSource(stop);
        var reading = Task.Run(async () =>
        {
            try
            {
                await foreach (var item in items.WithCancellation(ended.Token))
                    await channel.Writer.WriteAsync(item, ended.Token);
                channel.Writer.Complete();
            }
            catch (Exception trouble)
            {
                channel.Writer.Complete(trouble);
            }
        }, CancellationToken.None);
        try
        {
            await foreach (var item in channel.Reader.ReadAllAsync(stop))
                yield return item;
        }
        finally
        {
            await ended.CancelAsync();
            await reading;
        }
    }
}
