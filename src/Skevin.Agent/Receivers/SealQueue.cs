using System.Threading.Channels;

namespace Skevin.Agent.Receivers;

/// <summary>Requests that wait at the same time are sealed together; each is answered once it is on the disk.</summary>
/// <param name="seal">Seals some of them.</param>
public sealed class SealQueue<T>(Action<IReadOnlyList<T>> seal) : IAsyncDisposable
{
    private const int MostTogether = 200;
    private readonly Channel<(T Item, TaskCompletionSource Done)> _queue = Channel.CreateBounded<(T, TaskCompletionSource)>(new BoundedChannelOptions(1000) { SingleReader = true });
    private Task? _worker;

    /// <summary>Begins.</summary>
    public void Start() => _worker = Task.Run(Work);

    /// <summary>Returns when the item is on the disk.</summary>
    public async Task Seal(T item, CancellationToken stop)
    {
        var done = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        await _queue.Writer.WriteAsync((item, done), stop);
        await done.Task.WaitAsync(stop);
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        _queue.Writer.TryComplete();
        if (_worker is { } worker)
            await worker;
    }

    private async Task Work()
    {
        while (await _queue.Reader.WaitToReadAsync())
        {
            var group = new List<(T Item, TaskCompletionSource Done)>();
            while (group.Count < MostTogether && _queue.Reader.TryRead(out var waiting))
                group.Add(waiting);
            try
            {
                seal([.. group.Select(waiting => waiting.Item)]);
                foreach (var (_, done) in group)
                    done.TrySetResult();
            }
            catch (Exception trouble)
            {
                foreach (var (_, done) in group)
                    done.TrySetException(trouble);
            }
        }
    }
}
