using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Tests.Query;

/// <summary>Rows that lie ready, arriving in every minute but those named.</summary>
internal sealed class FixedRows(params (RowKind Kind, IRow[] Rows)[] kinds) : IRowReader
{
    public HashSet<long> Away { get; } = [];

    public async IAsyncEnumerable<RowBatch> Rows(RowKind kind, long from, long to, RowHints hints, [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken stop)
    {
        await Task.CompletedTask;
        foreach (var chunk in kinds.Where(one => one.Kind == kind).SelectMany(one => one.Rows).Where(row => row.Milliseconds > from && row.Milliseconds <= to).Chunk(7))
            yield return new RowBatch(0, chunk);
    }

    public Task<IReadOnlySet<long>> Arriving(RowKind kind, long from, long to, CancellationToken stop) =>
        Task.FromResult<IReadOnlySet<long>>(Enumerable.Range(0, (int)(to / 60_000 - from / 60_000) + 1).Select(i => from / 60_000 + i).Where(minute => !Away.Contains(minute)).ToHashSet());
}

/// <summary>No metrics at all.</summary>
internal sealed class NoSeries : ISeriesReader
{
    public IEnumerable<string> Metrics() => [];

    public Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop) => Task.FromResult<IReadOnlyList<StoredSeries>>([]);

    public Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop) => Task.FromResult<IReadOnlyList<Sample[]>>([]);
}
