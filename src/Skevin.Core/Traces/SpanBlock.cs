using Skevin.Core.Blocks;
using Skevin.Core.Series;

namespace Skevin.Core.Traces;

/// <summary>
/// Spans as they are stored. Few of them, as they come in: row by row in order of their start, attributes and their texts once each, the whole
/// compressed with zstd. Many, merged: <see cref="SpanColumns"/>.
/// </summary>
public static class SpanBlock
{
    private const byte Version = 1;

    /// <summary>Encodes spans.</summary>
    public static byte[] Encode(IEnumerable<Span> spans)
    {
        var writer = new BlockWriter();
        var before = 0L;
        var ordered = spans.OrderBy(span => span.Start).ToArray();
        writer.Unsigned((ulong)ordered.Length);
        foreach (var span in ordered)
        {
            writer.Fixed(span.Trace.High);
            writer.Fixed(span.Trace.Low);
            writer.Fixed(span.Id);
            writer.Fixed(span.Parent);
            writer.Text(span.Name);
            writer.Unsigned((ulong)span.Kind | ((ulong)span.Status << 4));
            writer.Signed(span.Start - before);
            before = span.Start;
            writer.Unsigned((ulong)span.Duration);
            writer.Text(span.StatusMessage);
            writer.Double(span.Weight);
            writer.Labels(span.Resource);
            writer.Pairs(span.Attributes);
            writer.Unsigned((ulong)span.Events.Count);
            foreach (var note in span.Events)
            {
                writer.Signed(note.Time - span.Start);
                writer.Text(note.Name);
                writer.Pairs(note.Attributes);
            }
        }
        return writer.Finish(Version);
    }

    /// <summary>The rows of a block of either layout.</summary>
    /// <exception cref="FormatException">The bytes are no such block.</exception>
    public static IBlockRows Open(byte[] block) => block.Length > 0 && block[0] == SpanColumns.Version ? new SpanColumns(block) : new DecodedRows<Span>(Decode(block), span => span.Resource);

    /// <summary>The spans of one trace in a block of either layout.</summary>
    /// <exception cref="FormatException">The bytes are no such block.</exception>
    public static IEnumerable<Span> OfTrace(byte[] block, TraceId trace) =>
        block.Length > 0 && block[0] == SpanColumns.Version ? new SpanColumns(block).OfTrace(trace) : Decode(block).Where(span => span.Trace == trace);

    /// <summary>Decodes what <see cref="Encode"/> or <see cref="SpanColumns.Encode"/> wrote.</summary>
    /// <exception cref="FormatException">The bytes are no such block.</exception>
    public static Span[] Decode(byte[] block)
    {
        if (block.Length > 0 && block[0] == SpanColumns.Version)
        {
            var columns = new SpanColumns(block);
            return [.. Enumerable.Range(0, columns.Count).Select(columns.Span)];
        }
        var reader = new BlockReader(block, Version);
        var spans = new Span[reader.Count()];
        var start = 0L;
        for (var i = 0; i < spans.Length; i++)
        {
            var trace = new TraceId(reader.Fixed(), reader.Fixed());
            var (id, parent, name, kinds) = (reader.Fixed(), reader.Fixed(), reader.Text(), reader.Unsigned());
            start += reader.Signed();
            var duration = (long)(reader.Unsigned() & long.MaxValue);
            var (message, weight, resource, attributes) = (reader.Text(), reader.Double(), reader.Labels(), reader.Pairs());
            var events = new SpanEvent[reader.Count()];
            for (var j = 0; j < events.Length; j++)
                events[j] = new SpanEvent(start + reader.Signed(), reader.Text(), reader.Pairs());
            spans[i] = new Span(trace, id, parent, name, (SpanKind)(kinds & 15), start, duration, (SpanStatus)((kinds >> 4) & 15), message, weight, resource, attributes, events);
        }
        return spans;
    }
}
