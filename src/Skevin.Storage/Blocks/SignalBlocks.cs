using Npgsql;
using NpgsqlTypes;
using Skevin.Core.Blocks;
using Skevin.Core.Logs;
using Skevin.Core.Series;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;

namespace Skevin.Storage.Blocks;

/// <summary>A block of one cluster and day, ready to be written.</summary>
/// <param name="Table">log_block, span_block, flow_block or histogram_block.</param>
/// <param name="Kind">Of log_block: 0 for lines, 1 for events.</param>
/// <param name="From">Time of the first row, epoch milliseconds.</param>
/// <param name="To">Time of the last row.</param>
/// <param name="Words">Filter over all words; empty for flows and histograms.</param>
/// <param name="Sketch">Of the durations of many spans; empty for few and for all else.</param>
internal sealed record SignalBlock(string Table, int Cluster, DateOnly Day, short Kind, long From, long To, int Count, byte[] Words, byte[] Payload, DateTimeOffset ReceivedAt, byte[]? Sketch = null)
{
    // From so many rows on, columns pay for themselves.
    private const int ManyRows = 1024;

    public static SignalBlock OfLines(int cluster, DateOnly day, short kind, LogLine[] lines, DateTimeOffset received)
    {
        var words = new HashSet<string>(StringComparer.Ordinal);
        var resources = new HashSet<Core.Series.Labels>();
        foreach (var line in lines)
        {
            WordFilter.Collect(line.Text, words);
            WordFilter.Collect(line.Attributes, words);
            if (resources.Add(line.Resource))
                WordFilter.Collect(line.Resource, words);
        }
        return new SignalBlock("log_block", cluster, day, kind, lines.Min(line => line.Milliseconds), lines.Max(line => line.Milliseconds), lines.Length, WordFilter.Of(words),
            lines.Length < ManyRows ? LogBlock.Encode(lines) : LogColumns.Encode(lines), received);
    }

    public static SignalBlock OfSpans(int cluster, DateOnly day, Span[] spans, DateTimeOffset received)
    {
        var words = new HashSet<string>(StringComparer.Ordinal);
        var seen = new HashSet<Core.Series.Labels>();
        void All(string text) => WordFilter.Collect(text, words);
        void Labels(Core.Series.Labels labels)
        {
            if (seen.Add(labels))
                WordFilter.Collect(labels, words);
        }
        foreach (var span in spans)
        {
            All(span.Name);
            All(span.Kind.ToString());
            All(span.Status.ToString());
            All(span.StatusMessage);
            Labels(span.Resource);
            Labels(span.Attributes);
            foreach (var note in span.Events)
                Labels(note.Attributes);
        }
        return new SignalBlock("span_block", cluster, day, 0, spans.Min(span => span.Milliseconds), spans.Max(span => span.Milliseconds), spans.Length, WordFilter.Of(words),
            spans.Length < ManyRows ? SpanBlock.Encode(spans) : SpanColumns.Encode(spans), received, spans.Length < ManyRows ? [] : SpanSketches.Of(spans));
    }

    public static SignalBlock OfFlows(int cluster, DateOnly day, FlowMinute[] flows, DateTimeOffset received) =>
        new("flow_block", cluster, day, 0, flows.Min(flow => flow.Key.Minute), flows.Max(flow => flow.Key.Minute), flows.Length, [], FlowBlock.Encode(flows), received);

    public static SignalBlock OfHistograms(int cluster, DateOnly day, SeriesHistogram[] samples, DateTimeOffset received) =>
        new("histogram_block", cluster, day, 0, samples.Min(one => one.Sample.Time), samples.Max(one => one.Sample.Time), samples.Length, [], HistogramBlock.Encode(samples), received);
}

/// <summary>Writes blocks by COPY, inside a transaction of the caller's.</summary>
internal static class SignalBlocks
{
    /// <summary>The column that counts rows, by table.</summary>
    public static readonly IReadOnlyDictionary<string, string> CountColumn = new Dictionary<string, string> { ["log_block"] = "lines", ["span_block"] = "spans", ["flow_block"] = "rows", ["histogram_block"] = "samples" };

    /// <summary>Writes blocks.</summary>
    /// <returns>Their numbers, in order.</returns>
    public static async Task<long[]> Write(NpgsqlConnection connection, NpgsqlTransaction transaction, IReadOnlyList<SignalBlock> blocks, CancellationToken stop)
    {
        if (blocks.Count == 0)
            return [];
        var numbers = await Numbers(connection, transaction, blocks.Count, stop);
        foreach (var table in blocks.Index().GroupBy(pair => pair.Item.Table))
        {
            var more = table.Key switch { "log_block" => ", words, probes, kind", "span_block" => ", words, probes, sketch", _ => "" };
            await using var copy = await connection.BeginBinaryImportAsync($"copy {table.Key} (day, id, cluster_id, from_ms, to_ms, received_at, payload, {CountColumn[table.Key]}{more}) from stdin (format binary)", stop);
            foreach (var (i, block) in table)
            {
                await copy.StartRowAsync(stop);
                await copy.WriteAsync(block.Day, NpgsqlDbType.Date, stop);
                await copy.WriteAsync(numbers[i], NpgsqlDbType.Bigint, stop);
                await copy.WriteAsync(block.Cluster, NpgsqlDbType.Integer, stop);
                await copy.WriteAsync(block.From, NpgsqlDbType.Bigint, stop);
                await copy.WriteAsync(block.To, NpgsqlDbType.Bigint, stop);
                await copy.WriteAsync(block.ReceivedAt.UtcDateTime, NpgsqlDbType.TimestampTz, stop);
                await copy.WriteAsync(block.Payload, NpgsqlDbType.Bytea, stop);
                await copy.WriteAsync(block.Count, NpgsqlDbType.Integer, stop);
                if (more.Length > 0)
                {
                    await copy.WriteAsync(block.Words, NpgsqlDbType.Bytea, stop);
                    await copy.WriteAsync((short)WordFilter.Probes, NpgsqlDbType.Smallint, stop);
                }
                if (table.Key == "span_block")
                    await copy.WriteAsync(block.Sketch ?? [], NpgsqlDbType.Bytea, stop);
                if (table.Key == "log_block")
                    await copy.WriteAsync(block.Kind, NpgsqlDbType.Smallint, stop);
            }
            await copy.CompleteAsync(stop);
        }
        return numbers;
    }

    /// <summary>Writes which block holds spans of which trace.</summary>
    public static async Task WriteTraces(NpgsqlConnection connection, IEnumerable<(DateOnly Day, long Trace, long Block)> traces, CancellationToken stop)
    {
        await using var copy = await connection.BeginBinaryImportAsync("copy trace_index (day, trace, block) from stdin (format binary)", stop);
        foreach (var (day, trace, block) in traces)
        {
            await copy.StartRowAsync(stop);
            await copy.WriteAsync(day, NpgsqlDbType.Date, stop);
            await copy.WriteAsync(trace, NpgsqlDbType.Bigint, stop);
            await copy.WriteAsync(block, NpgsqlDbType.Bigint, stop);
        }
        await copy.CompleteAsync(stop);
    }

    private static async Task<long[]> Numbers(NpgsqlConnection connection, NpgsqlTransaction transaction, int count, CancellationToken stop)
    {
        var numbers = new long[count];
        await using var command = new NpgsqlCommand("select nextval('block_number') from generate_series(1, @count)", connection, transaction);
        command.Parameters.AddWithValue("count", count);
        await using var reader = await command.ExecuteReaderAsync(stop);
        for (var i = 0; await reader.ReadAsync(stop); i++)
            numbers[i] = reader.GetInt64(0);
        return numbers;
    }
}
