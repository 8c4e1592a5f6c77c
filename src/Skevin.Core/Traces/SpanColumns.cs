using Skevin.Core.Blocks;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Traces;

/// <summary>
/// Many spans by columns, in order of their start: a reader unpacks only the columns an enquiry looks at. Traces stand once each; a parent in
/// the same block is told by its distance.
/// </summary>
public sealed class SpanColumns : IBlockRows
{
    /// <summary>First byte of such a block.</summary>
    public const byte Version = 2;

    private readonly ColumnReader _block;
    private readonly long[] _starts;
    private readonly (Labels[] Sets, int[] Numbers) _resources;
    private readonly Dictionary<string, Func<int, FieldValue>> _fields = new(StringComparer.Ordinal);
    private readonly Lazy<double[]> _weights;
    private readonly Lazy<(TraceId[] Traces, ulong[] Numbers)> _traces;
    private readonly Lazy<(ulong[] Ids, ulong[] Parents)> _ids;
    private readonly Lazy<ulong[]> _durations;
    private readonly Lazy<ulong[]> _kinds;
    private readonly Lazy<Dictionary<int, SpanEvent[]>> _events;

    /// <summary>Opens a block.</summary>
    /// <exception cref="FormatException">The bytes are no such block; columns looked at later may say so later.</exception>
    public SpanColumns(byte[] block)
    {
        _block = new ColumnReader(block, Version);
        _starts = _block.Distances("start");
        _resources = _block.Sets("resource");
        _weights = new(ReadWeights);
        _traces = new(ReadTraces);
        _ids = new(ReadIds);
        _durations = new(() => _block.Numbers("duration"));
        _kinds = new(() => _block.Numbers("kind"));
        _events = new(ReadEvents);
    }

    /// <summary>How many spans.</summary>
    public int Count => _block.Rows;

    /// <summary>A span as a row that reads its columns when it is asked.</summary>
    public IRow this[int row] => new SpanRow(this, row);

    /// <inheritdoc/>
    public long Milliseconds(int row) => IRow.Stamp(_starts[row]);

    /// <inheritdoc/>
    public Labels Resource(int row) => _resources.Sets[_resources.Numbers[row]];

    internal double Weight(int row) => _weights.Value.Length == 0 ? 1 : _weights.Value[row];

    internal IEnumerable<string> Fields(int row) => _block.KeysOf(row).Concat(Resource(row).Select(pair => pair.Key));

    internal FieldValue Value(string field, int row)
    {
        if (!_fields.TryGetValue(field, out var of))
            _fields[field] = of = Field(field);
        return of(row);
    }

    /// <summary>A whole span.</summary>
    public Span Span(int row)
    {
        var kinds = _kinds.Value[row];
        return new Span(
            _traces.Value.Traces[_traces.Value.Numbers[row]], _ids.Value.Ids[row], _ids.Value.Parents[row], Text("name", row), (SpanKind)(kinds & 15), _starts[row], Duration(row),
            (SpanStatus)((kinds >> 4) & 15), Text("message", row), Weight(row), Resource(row), _block.Attributes(row), _events.Value.GetValueOrDefault(row) ?? []);
    }

    /// <summary>The spans of one trace.</summary>
    public IEnumerable<Span> OfTrace(TraceId trace)
    {
        var number = Array.IndexOf(_traces.Value.Traces, trace);
        for (var row = 0; number >= 0 && row < Count; row++)
            if (_traces.Value.Numbers[row] == (ulong)number)
                yield return Span(row);
    }

    /// <summary>What its spans come to, one a trace.</summary>
    /// <param name="from">Epoch milliseconds, excluded.</param>
    /// <param name="to">Epoch milliseconds, included.</param>
    /// <param name="sees">Which origins are visible.</param>
    public IReadOnlyList<TracePart> Parts(long from, long to, Func<Labels, bool> sees)
    {
        var parts = new TracePart?[_traces.Value.Traces.Length];
        var visible = _resources.Sets.Select(sees).ToArray();
        var names = _block.Texts("name");
        for (var row = 0; row < Count; row++)
        {
            var time = Milliseconds(row);
            if (time <= from || time > to || !visible[_resources.Numbers[row]])
                continue;
            var span = Place(row);
            ref var part = ref parts[_traces.Value.Numbers[row]];
            if (part is null)
                part = new TracePart(span, names?[row] ?? "", Resource(row));
            else if (part.Add(span))
                part.Take(span.IsRoot, span.Start, names?[row] ?? "", Resource(row));
        }
        return [.. parts.OfType<TracePart>()];
    }

    private long Duration(int row) => (long)(_durations.Value[row] & long.MaxValue);

    internal SpanPlace Place(int row) => new(_traces.Value.Traces[(int)_traces.Value.Numbers[row]], _starts[row], Duration(row), _ids.Value.Parents[row] == 0, (SpanStatus)((_kinds.Value[row] >> 4) & 15) == SpanStatus.Error);

    internal string Title(int row) => Text("name", row);

    private string Text(string column, int row) => _block.Texts(column)?[row] ?? "";

    private Func<int, FieldValue> Field(string field)
    {
        switch (field)
        {
            case "time":
                return row => FieldValue.Of(IRow.Stamp(_starts[row]));
            case "name":
                return row => FieldValue.Of(Text("name", row));
            case "kind":
                return ColumnFields.Words(16, kind => FieldValue.Of(((SpanKind)kind).ToString().ToLowerInvariant()), row => (int)(_kinds.Value[row] & 15));
            case "duration":
                return row => FieldValue.Of(Duration(row) / 1e9);
            case "status":
                return ColumnFields.Words(16, status => FieldValue.Of(((SpanStatus)status).ToString().ToLowerInvariant()), row => (int)((_kinds.Value[row] >> 4) & 15));
            case "trace" or "span" or "parent" or "message":
                return row => Span(row)[field];
            default:
                var attribute = ColumnFields.Attribute(_block, field);
                return field.StartsWith("exception.", StringComparison.Ordinal) ? row => attribute(row) is { Exists: true } value ? value : Span(row)[field] : attribute;
        }
    }

    private double[] ReadWeights()
    {
        if (!_block.Has("weight"))
            return [];
        var reader = _block.Open("weight");
        var weights = new double[Count];
        for (var i = 0; i < weights.Length; i++)
            weights[i] = BitConverter.UInt64BitsToDouble(reader.Fixed());
        return weights;
    }

    private (TraceId[], ulong[]) ReadTraces()
    {
        var reader = _block.Open("traces");
        var traces = new TraceId[reader.Count(reader.Unsigned())];
        for (var i = 0; i < traces.Length; i++)
            traces[i] = new TraceId(reader.Fixed(), reader.Fixed());
        var numbers = _block.Numbers("trace");
        return numbers.All(number => number < (ulong)traces.Length) ? (traces, numbers) : throw ByteReader.Damaged();
    }

    private (ulong[], ulong[]) ReadIds()
    {
        var (ids, parents) = (new ulong[Count], new ulong[Count]);
        if (Count == 0)
            return (ids, parents);
        var reader = _block.Open("id");
        for (var i = 0; i < ids.Length; i++)
            ids[i] = reader.Fixed();
        reader = _block.Open("parent");
        for (var i = 0; i < parents.Length; i++)
        {
            // 0: none; 1: elsewhere, written out; else how far away the parent's row is.
            var code = reader.Unsigned();
            if (code == 1)
                parents[i] = reader.Fixed();
            else if (code > 1)
            {
                var distance = (long)((code - 2) >> 1) ^ -(long)((code - 2) & 1);
                parents[i] = i + distance is var at && at >= 0 && at < ids.Length ? ids[at] : throw ByteReader.Damaged();
            }
        }
        return (ids, parents);
    }

    private Dictionary<int, SpanEvent[]> ReadEvents()
    {
        var events = new Dictionary<int, SpanEvent[]>();
        if (!_block.Has("events"))
            return events;
        var reader = new BlockReader(_block.Open("events").Rest());
        var row = 0UL;
        for (var left = reader.Count(); left > 0; left--)
        {
            row += reader.Unsigned();
            if (row >= (ulong)Count)
                throw ByteReader.Damaged();
            var notes = new SpanEvent[reader.Count()];
            for (var j = 0; j < notes.Length; j++)
                notes[j] = new SpanEvent(_starts[row] + reader.Signed(), reader.Text(), reader.Pairs());
            events[(int)row] = notes;
        }
        return events;
    }

    /// <summary>Writes spans.</summary>
    public static byte[] Encode(IEnumerable<Span> spans)
    {
        var rows = spans.OrderBy(span => span.Start).ToArray();
        var writer = new ColumnWriter(rows.Length);
        if (rows.Length == 0)
            return writer.Finish(Version);
        writer.AddDistances("start", rows.Select(span => span.Start));
        writer.Add("duration", rows.Select(span => (ulong)span.Duration));
        writer.Add("kind", rows.Select(span => (ulong)span.Kind | ((ulong)span.Status << 4)));
        writer.AddSets("resource", [.. rows.Select(span => span.Resource)]);
        writer.AddTexts("name", [.. rows.Select(span => span.Name)]);
        if (rows.Any(span => span.StatusMessage.Length > 0))
            writer.AddTexts("message", [.. rows.Select(span => span.StatusMessage)]);
        if (rows.Any(span => span.Weight != 1))
            writer.Add("weight", Fixed(rows.Select(span => BitConverter.DoubleToUInt64Bits(span.Weight))));
        var traces = new Dictionary<TraceId, int>();
        writer.Add("trace", rows.Select(span => { traces.TryAdd(span.Trace, traces.Count); return (ulong)traces[span.Trace]; }));
        var ids = new ColumnBytes();
        ids.Unsigned((ulong)traces.Count);
        ids.Raw(Fixed(traces.Keys.SelectMany(trace => new[] { trace.High, trace.Low })));
        writer.Add("traces", ids);
        writer.Add("id", Fixed(rows.Select(span => span.Id)));
        writer.Add("parent", Parents(rows));
        writer.AddAttributes([.. rows.Select(span => span.Attributes)]);
        writer.Add("events", Events(rows));
        return writer.Finish(Version);
    }

    private static byte[] Fixed(IEnumerable<ulong> numbers)
    {
        var bytes = new ColumnBytes();
        foreach (var number in numbers)
            bytes.Fixed(number);
        return bytes.ToArray();
    }

    private static ColumnBytes Parents(Span[] rows)
    {
        var places = new Dictionary<ulong, int>();
        for (var i = 0; i < rows.Length; i++)
            places[rows[i].Id] = i;
        var bytes = new ColumnBytes();
        for (var i = 0; i < rows.Length; i++)
        {
            if (rows[i].Parent == 0)
            {
                bytes.Unsigned(0);
            }
            else if (places.TryGetValue(rows[i].Parent, out var place))
            {
                var distance = (long)place - i;
                bytes.Unsigned((ulong)((distance << 1) ^ (distance >> 63)) + 2);
            }
            else
            {
                bytes.Unsigned(1);
                bytes.Fixed(rows[i].Parent);
            }
        }
        return bytes;
    }

    private static byte[] Events(Span[] rows)
    {
        var noted = rows.Index().Where(pair => pair.Item.Events.Count > 0).ToArray();
        if (noted.Length == 0)
            return [];
        var writer = new BlockWriter();
        writer.Unsigned((ulong)noted.Length);
        var before = 0;
        foreach (var (row, span) in noted)
        {
            writer.Unsigned((ulong)(row - before));
            before = row;
            writer.Unsigned((ulong)span.Events.Count);
            foreach (var note in span.Events)
            {
                writer.Signed(note.Time - span.Start);
                writer.Text(note.Name);
                writer.Pairs(note.Attributes);
            }
        }
        return writer.Inside();
    }
}

/// <summary>A span in a block of columns.</summary>
internal sealed class SpanRow(SpanColumns block, int row) : ISpanRow
{
    public SpanPlace Place => block.Place(row);

    public string Title => block.Title(row);

    public Labels Origin => block.Resource(row);

    public long Milliseconds => block.Milliseconds(row);

    public double Weight => block.Weight(row);

    public FieldValue this[string field] => block.Value(field, row);

    public IEnumerable<string> Fields => block.Fields(row);

    public Span Span => block.Span(row);
}
