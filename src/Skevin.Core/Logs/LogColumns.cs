using System.Collections;
using Skevin.Core.Blocks;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Core.Logs;

/// <summary>Many log lines by columns, in order of time: a reader unpacks only the columns an enquiry looks at.</summary>
public sealed class LogColumns : IBlockRows
{
    /// <summary>First byte of such a block.</summary>
    public const byte Version = 2;

    private readonly ColumnReader _block;
    private readonly long[] _times;
    private readonly (Labels[] Sets, int[] Numbers) _resources;
    private readonly Dictionary<string, Func<int, FieldValue>> _fields = new(StringComparer.Ordinal);
    private readonly Dictionary<string, BitArray> _having = new(StringComparer.Ordinal);
    private readonly Lazy<ulong[]> _levels;
    private readonly Lazy<Dictionary<int, (TraceId Trace, ulong Span)>> _links;

    /// <summary>Opens a block.</summary>
    /// <exception cref="FormatException">The bytes are no such block; columns looked at later may say so later.</exception>
    public LogColumns(byte[] block)
    {
        _block = new ColumnReader(block, Version);
        _times = _block.Distances("time");
        _resources = _block.Sets("resource");
        _levels = new(() => _block.Numbers("level"));
        _links = new(ReadLinks);
    }

    /// <summary>How many lines.</summary>
    public int Count => _block.Rows;

    /// <summary>A line as a row that reads its columns when it is asked.</summary>
    public IRow this[int row] => new LogRow(this, row);

    /// <inheritdoc/>
    public long Milliseconds(int row) => IRow.Stamp(_times[row]);

    /// <inheritdoc/>
    public Labels Resource(int row) => _resources.Sets[_resources.Numbers[row]];

    internal IEnumerable<string> Fields(int row) => _block.KeysOf(row).Concat(Resource(row).Select(pair => pair.Key));

    internal FieldValue Value(string field, int row)
    {
        if (!_fields.TryGetValue(field, out var of))
            _fields[field] = of = Field(field);
        return of(row);
    }

    /// <summary>Whether lines can be counted by these fields without being made: they are all of where a line comes from, or its level.</summary>
    public bool Counts(IEnumerable<string> fields) => fields.All(field => field is not ("time" or "text" or "kind" or "trace" or "span" or "reason" or "object")
        && (field == "level" || !_block.Keys.Any(key => key == field || FieldNames.Short.GetValueOrDefault(field) == key || (field == "workload" && FieldNames.Workload.Contains(key)))));

    /// <summary>How many lines with from &lt; time ≤ to there are of each minute, level and origin.</summary>
    /// <param name="from">Epoch milliseconds.</param>
    /// <param name="to">Epoch milliseconds.</param>
    /// <param name="sees">Which origins may be seen.</param>
    public IReadOnlyList<IRow> CountByMinute(long from, long to, Func<Labels, bool> sees)
    {
        var visible = _resources.Sets.Select(sees).ToArray();
        // Lines are in order of time, so one minute is counted after the other.
        var counted = new List<IRow>();
        var (levels, end) = (_levels.Value, long.MinValue);
        var width = levels.Length == 0 ? 1 : levels.Max(level => (byte)level) + 1;
        var counts = new long[visible.Length * width];
        for (var row = 0; row < Count; row++)
        {
            var (time, resource) = (Milliseconds(row), _resources.Numbers[row]);
            if (time <= from || time > to || !visible[resource])
                continue;
            if (time > end)
            {
                Close();
                end = (time + 59_999) / 60_000 * 60_000;
            }
            counts[resource * width + (byte)levels[row]]++;
        }
        Close();
        return counted;

        void Close()
        {
            for (var i = 0; i < counts.Length; i++)
                if (counts[i] > 0)
                    counted.Add(new CountedLines(_resources.Sets[i / width], (LogLevel)(i % width), end, counts[i]));
            Array.Clear(counts);
        }
    }

    // All lines are searched at once: their texts lie one behind the other.
    internal bool MayHave(int row, string lower)
    {
        if (!_having.TryGetValue(lower, out var having))
            _having[lower] = having = _block.Texts("text")?.Having(lower) ?? new BitArray(Count);
        return having[row];
    }

    /// <summary>A whole line.</summary>
    public LogLine Line(int row)
    {
        var (trace, span) = _links.Value.GetValueOrDefault(row);
        return new LogLine(_times[row], (LogLevel)(byte)_levels.Value[row], Text(row), Resource(row), _block.Attributes(row), trace, span);
    }

    private string Text(int row) => _block.Texts("text")?[row] ?? "";

    private Func<int, FieldValue> Field(string field)
    {
        switch (field)
        {
            case "time":
                return row => FieldValue.Of(IRow.Stamp(_times[row]));
            case "level":
                return ColumnFields.Words(256, level => (LogLevel)level == LogLevel.None ? FieldValue.Absent : FieldValue.Of(LogLevels.Word((LogLevel)level)), row => (byte)_levels.Value[row]);
            case "text":
                return row => FieldValue.Of(Text(row));
            case "trace":
                return row => _links.Value.GetValueOrDefault(row).Trace is { IsEmpty: false } trace ? FieldValue.Of(trace.ToString()) : FieldValue.Absent;
            case "span":
                return row => _links.Value.GetValueOrDefault(row).Span is > 0 and var span ? FieldValue.Of(TraceId.SpanText(span)) : FieldValue.Absent;
            case "reason" or "object":
                var (about, otherwise) = (ColumnFields.Attribute(_block, "k8s.event." + field), ColumnFields.Attribute(_block, field));
                return row => about(row) is { Exists: true } value ? value : otherwise(row);
            case "kind":
                var own = ColumnFields.Attribute(_block, field);
                return row => own(row) is { Exists: true } value ? value : FieldValue.Of(LineKinds.Shape(Text(row)));
            default:
                return ColumnFields.Attribute(_block, field);
        }
    }

    private Dictionary<int, (TraceId, ulong)> ReadLinks()
    {
        var links = new Dictionary<int, (TraceId, ulong)>();
        if (!_block.Has("links"))
            return links;
        var reader = _block.Open("links");
        var row = 0UL;
        while (!reader.AtEnd)
        {
            row += reader.Unsigned();
            if (row >= (ulong)Count)
                throw ByteReader.Damaged();
            links[(int)row] = (new TraceId(reader.Fixed(), reader.Fixed()), reader.Fixed());
        }
        return links;
    }

    /// <summary>Writes lines.</summary>
    public static byte[] Encode(IEnumerable<LogLine> lines)
    {
        var rows = lines.OrderBy(line => line.Time).ToArray();
        var writer = new ColumnWriter(rows.Length);
        if (rows.Length == 0)
            return writer.Finish(Version);
        writer.AddDistances("time", rows.Select(line => line.Time));
        writer.Add("level", rows.Select(line => (ulong)line.Level));
        writer.AddSets("resource", [.. rows.Select(line => line.Resource)]);
        writer.AddTexts("text", [.. rows.Select(line => line.Text)]);
        writer.AddAttributes([.. rows.Select(line => line.Attributes)]);
        var (links, before) = (new ColumnBytes(), 0);
        for (var i = 0; i < rows.Length; i++)
        {
            if (rows[i].Trace.IsEmpty && rows[i].Span == 0)
                continue;
            links.Unsigned((ulong)(i - before));
            before = i;
            links.Fixed(rows[i].Trace.High);
            links.Fixed(rows[i].Trace.Low);
            links.Fixed(rows[i].Span);
        }
        writer.Add("links", links);
        return writer.Finish(Version);
    }
}

/// <summary>Lines of a minute, level and origin, counted. Its time is the minute's end.</summary>
internal sealed class CountedLines(Labels resource, LogLevel level, long end, long count) : IRow
{
    public long Milliseconds => end;

    public double Weight => count;

    public long Rows => count;

    public FieldValue this[string field] => field != "level" ? FieldValue.Of(FieldNames.Value(resource, field)) : level == LogLevel.None ? FieldValue.Absent : FieldValue.Of(LogLevels.Word(level));

    public IEnumerable<string> Fields => resource.Select(pair => pair.Key);
}

/// <summary>A line in a block of columns.</summary>
internal sealed class LogRow(LogColumns block, int row) : ISearchedRow
{
    public bool MayHave(string lower) => block.MayHave(row, lower);

    public long Milliseconds => block.Milliseconds(row);

    public double Weight => 1;

    public FieldValue this[string field] => block.Value(field, row);

    public IEnumerable<string> Fields => block.Fields(row);
}
