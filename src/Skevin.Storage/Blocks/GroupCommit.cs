using System.Threading.Channels;

namespace Skevin.Storage.Blocks;

/// <summary>
/// Requests that wait at the same time share a commit; where that fails they are committed singly. A request is answered after its
/// commit.
/// </summary>
/// <param name="commit">Commits a group and returns a result for each of its requests, in order.</param>
public sealed class GroupCommit<TRequest, TResult>(Func<IReadOnlyList<TRequest>, CancellationToken, Task<IReadOnlyList<TResult>>> commit) : IAsyncDisposable
{
    private const int MostTogether = 64;
    private const int MostWaiting = 512;

    private sealed record Pending(TRequest Request, TaskCompletionSource<TResult> Done);

    private readonly Channel<Pending> _queue = Channel.CreateBounded<Pending>(new BoundedChannelOptions(MostWaiting) { SingleReader = true });
    private readonly CancellationTokenSource _stop = new();
    private Task? _worker;

    /// <summary>Begins to take requests.</summary>
    public void Start() => _worker = Task.Run(Work);

    /// <summary>Whether more requests wait than can be taken soon; senders are asked to come again.</summary>
    public bool Crowded => _queue.Reader.Count > MostWaiting * 4 / 5;

    /// <summary>Commits a request.</summary>
    /// <returns>After the commit.</returns>
    public async Task<TResult> Run(TRequest request)
    {
        var pending = new Pending(request, new(TaskCreationOptions.RunContinuationsAsynchronously));
        await _queue.Writer.WriteAsync(pending, _stop.Token);
        return await pending.Done.Task;
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        _queue.Writer.TryComplete();
        if (_worker is { } worker)
            await worker;
        _stop.Dispose();
    }

    private async Task Work()
    {
        while (await _queue.Reader.WaitToReadAsync())
        {
            var group = new List<Pending>();
            while (group.Count < MostTogether && _queue.Reader.TryRead(out var pending))
                group.Add(pending);
            try
            {
                await Commit(group);
            }
            catch (Exception) when (group.Count > 1)
            {
                foreach (var single in group)
                    await CommitSingly(single);
            }
            catch (Exception trouble)
            {
                group[0].Done.TrySetException(trouble);
            }
        }
    }

    private async Task CommitSingly(Pending single)
    {
        try
        {
            await Commit([single]);
        }
        catch (Exception trouble)
        {
            single.Done.TrySetException(trouble);
        }
    }

    private async Task Commit(List<Pending> group)
    {
        var results = await commit([.. group.Select(pending => pending.Request)], _stop.Token);
        foreach (var (pending, result) in group.Zip(results))
            pending.Done.TrySetResult(result);
    }
}
