using Skevin.Core.Access;
using Skevin.Core.Collection;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Server.Ask;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Collection;

/// <summary>Measures what collecting costs, from what is stored.</summary>
public sealed class MeasureCollection(SampleStore store, Heads heads, AskEnquiry ask, TimeProvider clock)
{
    private static readonly TimeSpan Over = TimeSpan.FromMinutes(5);

    /// <summary>Figures of one cluster over the last 5 min.</summary>
    public async Task<MeasuredCollection> Run(int id, string cluster, CancellationToken stop)
    {
        var now = clock.GetUtcNow().ToUnixTimeMilliseconds();
        var from = now - (long)Over.TotalMilliseconds;
        var reader = ask.SeriesFor(AccessScope.Everything, cluster);
        var alive = reader.All().Where(series => heads.Has(series, from, now)).ToArray();
        double? cores = null;
        if (alive.Any(series => series.Key.Metric == "container.cpu.time"))
        {
            var enquiry = Parser.Read($"container.cpu.time -> where namespace = \"{Manifests.Namespace}\" -> rate every 5m -> sum");
            var answer = await EnquiryRunner.Run(enquiry, null, new Window(from - (long)Over.TotalMilliseconds, now), ask.ReaderFor(AccessScope.Everything, cluster), new Limits(), stop);
            cores = answer.Series.SelectMany(series => series.Values).Where(value => !double.IsNaN(value)).Select(value => (double?)value).LastOrDefault();
        }
        return new MeasuredCollection(alive.Length, await StoredRates.BySignal(store, id, now / 60_000 - (long)Over.TotalMinutes, now / 60_000, stop), await Bytes(stop), cores);
    }

    /// <summary>Bytes stored, by signal, of every cluster.</summary>
    internal async Task<Dictionary<string, long>> Bytes(CancellationToken stop)
    {
        await using var command = store.Database.CreateCommand("""
            select inhparent::regclass::text, sum(pg_total_relation_size(inhrelid))::bigint from pg_inherits
            where inhparent = any(array['sample_batch', 'sample_chunk', 'sample_summary', 'histogram_block', 'log_block', 'span_block', 'trace_index', 'flow_block']::regclass[]) group by 1
            """);
        var bytes = new Dictionary<string, long>();
        await using var rows = await command.ExecuteReaderAsync(stop);
        while (await rows.ReadAsync(stop))
        {
            var signal = rows.GetString(0) switch { "sample_batch" or "sample_chunk" or "sample_summary" or "histogram_block" => "metrics", "log_block" => "logs", "flow_block" => "flows", _ => "traces" };
            bytes[signal] = bytes.GetValueOrDefault(signal) + rows.GetInt64(1);
        }
        return bytes;
    }
}
