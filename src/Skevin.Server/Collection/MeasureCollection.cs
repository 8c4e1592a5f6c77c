using Skevin.Core.Access;
using Skevin.Core.Collection;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Collection;

/// <summary>Measures what collecting costs, from what is stored.</summary>
public sealed class MeasureCollection(SampleStore store, SeriesIndex index, Head head, TimeProvider clock)
{
    private static readonly TimeSpan Over = TimeSpan.FromMinutes(5);

    /// <summary>Figures of one cluster over the last 5 min.</summary>
    public async Task<MeasuredCollection> Run(string cluster, CancellationToken stop)
    {
        var now = clock.GetUtcNow().ToUnixTimeMilliseconds();
        var from = now - (long)Over.TotalMilliseconds;
        var reader = new ScopedReader(store, index, head, AccessScope.Everything, cluster);
        var alive = reader.All().Where(series => head.Has(series.Id, from, now)).ToArray();
        var samples = alive.Sum(series => (long)head.Read(series.Id, from, now).Length);
        double? cores = null;
        if (alive.Any(series => series.Key.Metric == "container.cpu.time"))
        {
            var enquiry = Parser.Read($"container.cpu.time -> where namespace = \"{Manifests.Namespace}\" -> rate every 5m -> sum");
            var answer = await EnquiryRunner.Run(enquiry, null, new Window(from - (long)Over.TotalMilliseconds, now), reader, new Limits(), stop);
            cores = answer.Series.SelectMany(series => series.Values).Where(value => !double.IsNaN(value)).Select(value => (double?)value).LastOrDefault();
        }
        return new MeasuredCollection(alive.Length, samples / Over.TotalSeconds, cores);
    }
}
