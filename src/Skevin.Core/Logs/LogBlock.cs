using Skevin.Core.Blocks;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Core.Logs;

/// <summary>
/// Log lines as they are stored. Few of them, as they come in: line by line in order of time, attributes and their texts once each, the whole
/// compressed with zstd. Many, merged: <see cref="LogColumns"/>.
/// </summary>
public static class LogBlock
{
    private const byte Version = 1;

    /// <summary>Encodes lines.</summary>
    public static byte[] Encode(IEnumerable<LogLine> lines)
    {
        var writer = new BlockWriter();
        var before = 0L;
        var ordered = lines.OrderBy(line => line.Time).ToArray();
        writer.Unsigned((ulong)ordered.Length);
        foreach (var line in ordered)
        {
            writer.Signed(line.Time - before);
            before = line.Time;
            writer.Unsigned((ulong)line.Level);
            writer.Labels(line.Resource);
            writer.Inline(line.Text);
            writer.Unsigned((ulong)line.Attributes.Count);
            foreach (var (name, value) in line.Attributes)
            {
                writer.Text(name);
                writer.Inline(value);
            }
            writer.Unsigned((line.Trace.IsEmpty ? 0u : 1u) | (line.Span == 0 ? 0u : 2u));
            if (!line.Trace.IsEmpty)
            {
                writer.Fixed(line.Trace.High);
                writer.Fixed(line.Trace.Low);
            }
            if (line.Span != 0)
                writer.Fixed(line.Span);
        }
        return writer.Finish(Version);
    }

    /// <summary>The rows of a block of either layout.</summary>
    /// <exception cref="FormatException">The bytes are no such block.</exception>
    public static IBlockRows Open(byte[] block) => block.Length > 0 && block[0] == LogColumns.Version ? new LogColumns(block) : new DecodedRows<LogLine>(Decode(block), line => line.Resource);

    /// <summary>Decodes what <see cref="Encode"/> or <see cref="LogColumns.Encode"/> wrote.</summary>
    /// <exception cref="FormatException">The bytes are no such block.</exception>
    public static LogLine[] Decode(byte[] block)
    {
        if (block.Length > 0 && block[0] == LogColumns.Version)
        {
            var columns = new LogColumns(block);
            return [.. Enumerable.Range(0, columns.Count).Select(columns.Line)];
        }
        var reader = new BlockReader(block, Version);
        var lines = new LogLine[reader.Count()];
        var time = 0L;
        for (var i = 0; i < lines.Length; i++)
        {
            time += reader.Signed();
            var level = (LogLevel)(byte)reader.Unsigned();
            var resource = reader.Labels();
            var text = reader.Inline();
            var attributes = new KeyValuePair<string, string>[reader.Count()];
            for (var j = 0; j < attributes.Length; j++)
                attributes[j] = new(reader.Text(), reader.Inline());
            var flags = reader.Unsigned();
            var trace = (flags & 1) == 0 ? default : new TraceId(reader.Fixed(), reader.Fixed());
            lines[i] = new LogLine(time, level, text, resource, attributes.Length == 0 ? Labels.None : Labels.From(attributes), trace, (flags & 2) == 0 ? 0 : reader.Fixed());
        }
        return lines;
    }
}
