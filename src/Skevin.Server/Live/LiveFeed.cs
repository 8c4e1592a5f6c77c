using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using System.Security.Claims;
using System.Threading.Channels;
using Skevin.Core.Access;
using Skevin.Server.Access;

namespace Skevin.Server.Live;

/// <summary>What changed: <c>inventory</c>, <c>arrivals</c>, <c>alarms</c> or <c>collection</c>, and of which cluster.</summary>
public sealed record LiveEvent(string Kind, string Cluster);

/// <summary>Tells open pages what changed; they fetch it themselves, in their own scope.</summary>
public sealed class LiveFeed
{
    private readonly Lock _lock = new();
    private readonly List<Channel<LiveEvent>> _readers = [];

    /// <summary>Something was told here, for other servers to hear.</summary>
    public event Action<LiveEvent>? Told;

    /// <summary>Tells everybody.</summary>
    public void Tell(string kind, string cluster)
    {
        Hear(new LiveEvent(kind, cluster));
        Told?.Invoke(new LiveEvent(kind, cluster));
    }

    /// <summary>Tells the pages that are open at this server.</summary>
    public void Hear(LiveEvent change)
    {
        lock (_lock)
            foreach (var reader in _readers)
                reader.Writer.TryWrite(change);
    }

    /// <summary>Events for one reader, repeats within half a second told once.</summary>
    public async IAsyncEnumerable<LiveEvent> Read(AccessScope scope, [EnumeratorCancellation] CancellationToken stop)
    {
        var channel = Channel.CreateBounded<LiveEvent>(new BoundedChannelOptions(1000) { FullMode = BoundedChannelFullMode.DropOldest });
        lock (_lock)
            _readers.Add(channel);
        try
        {
            while (await channel.Reader.WaitToReadAsync(stop))
            {
                await Task.Delay(TimeSpan.FromSeconds(0.5), stop);
                var seen = new HashSet<LiveEvent>();
                while (channel.Reader.TryRead(out var change))
                    if (scope.Sees(change.Cluster) && seen.Add(change))
                        yield return change;
            }
        }
        finally
        {
            lock (_lock)
                _readers.Remove(channel);
        }
    }
}

/// <summary>The stream of the page.</summary>
public static class LiveEndpoints
{
    /// <summary>Maps it.</summary>
    public static void MapLive(this IEndpointRouteBuilder routes) =>
        routes.MapGet("/api/live", (ClaimsPrincipal user, LiveFeed feed, IHostApplicationLifetime lifetime, CancellationToken stop) =>
        {
            async IAsyncEnumerable<SseItem<LiveEvent>> Items()
            {
                using var either = CancellationTokenSource.CreateLinkedTokenSource(stop, lifetime.ApplicationStopping);
                yield return new SseItem<LiveEvent>(new LiveEvent("hello", ""), "hello");
                await using var events = feed.Read(user.Scope(), either.Token).GetAsyncEnumerator(either.Token);
                while (true)
                {
                    try
                    {
                        if (!await events.MoveNextAsync())
                            yield break;
                    }
                    catch (OperationCanceledException)
                    {
                        yield break;
                    }
                    yield return new SseItem<LiveEvent>(events.Current, events.Current.Kind);
                }
            }
            return TypedResults.ServerSentEvents(Items());
        }).ExcludeFromDescription().Needs(Roles.Reader);
}
