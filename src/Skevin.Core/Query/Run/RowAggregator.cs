using Skevin.Core.Query.Language;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Core.Query.Run;

/// <summary>Takes a function over a field of rows, by groups and slots, one row after the other.</summary>
internal sealed class RowAggregator : IRowGatherer
{
    private sealed class Cell
    {
        public double Weight;
        public double Sum;
        public double Least = double.PositiveInfinity;
        public double Greatest = double.NegativeInfinity;
        public Spread Spread;
        public (long Time, double Number) First = (long.MaxValue, double.NaN);
        public (long Time, double Number) Last = (long.MinValue, double.NaN);
        public List<(double Value, double Weight)>? Values;
        public QuantileSketch? Sketch;
        public HashSet<string>? Different;
    }

    private readonly AggregateStep _step;
    private readonly RowSchema _schema;
    private readonly Slots _slots;
    private readonly bool _total;
    private readonly Dictionary<Labels, Cell?[]> _groups = [];
    private readonly Dictionary<string, Labels> _single = new(StringComparer.Ordinal);
    // The last values that were met, by reference: blocks keep each distinct one once.
    private readonly (string? Value, Cell?[]? Cells)[] _met = new (string?, Cell?[]?)[8];
    private int _kept;
    private int _meeting;

    /// <exception cref="EnquiryException">A function that needs a field has none.</exception>
    public RowAggregator(AggregateStep step, RowSchema schema, Slots slots)
    {
        (_step, _schema, _slots) = (step, schema, slots);
        if (step.Field is null && step.Function.Kind != FunctionKind.Count)
            throw new EnquiryException(new(step.At.Line, step.At.Column, step.Function.ToString(), $"'{step.Function}' of rows needs a field.", $"{step.Function} {(schema.Kind switch { RowKind.Flows => "bytes", RowKind.Spans => "duration", _ => "value" })}"));
        // Sums of a minute's flows stand for many flows: their value is that of one, and the weight brings the sum back.
        _total = schema.Kind == RowKind.Flows && step.Field is "bytes" or "packets" or "flows" or "failed";
        if (step.Grouping is null)
            _groups[Labels.None] = new Cell?[slots.Count];
    }

    /// <summary>Whether a row stood for more than itself by sampling.</summary>
    public bool Weighted { get; private set; }

    /// <summary>Whether there were too many values for exact quantiles.</summary>
    public bool Sketched { get; private set; }

    /// <summary>Rows whose field holds no number.</summary>
    public long WithoutNumber { get; private set; }

    public void Add(IRow row)
    {
        var time = row.Milliseconds;
        if (time <= _slots.Start || time > _slots.End)
            return;
        var slot = (int)((time - _slots.Start - 1) / _slots.Width);
        if (row is SketchedSpans spans && _step.Field is not null)
        {
            Add(Cells(row)[slot] ??= new Cell(), spans);
            return;
        }
        var number = 1.0;
        string? text = null;
        if (_step.Field is { } field && _step.Function.Kind != FunctionKind.Count)
        {
            var value = row[field];
            if (_step.Function.Kind == FunctionKind.Distinct)
            {
                if ((text = value.AsText) is null)
                    return;
            }
            else
            {
                number = value.AsNumber;
                if (double.IsNaN(number))
                {
                    WithoutNumber++;
                    return;
                }
                if (_total)
                    number /= row.Weight;
            }
        }
        else if (_step.Field is { } wanted && !row[wanted].Exists)
        {
            return;
        }
        Weighted |= _schema.Kind == RowKind.Spans && row.Weight != row.Rows;
        var cell = Cells(row)[slot] ??= new Cell();
        cell.Weight += row.Weight;
        cell.Sum += number * row.Weight;
        cell.Least = Math.Min(cell.Least, number);
        cell.Greatest = Math.Max(cell.Greatest, number);
        if (_step.Function.Kind == FunctionKind.StandardDeviation)
            cell.Spread.Add(number, row.Weight);
        if (time < cell.First.Time)
            cell.First = (time, number);
        if (time >= cell.Last.Time)
            cell.Last = (time, number);
        if (text is not null)
            (cell.Different ??= new HashSet<string>(StringComparer.Ordinal)).Add(text);
        if (_step.Function.Kind != FunctionKind.Quantile)
            return;
        if (++_kept == Quantiles.MostExact + 1)
            Sketch();
        if (Sketched)
            (cell.Sketch ??= new QuantileSketch()).Add(number, row.Weight);
        else
            (cell.Values ??= []).Add((number, row.Weight));
    }

    private void Add(Cell cell, SketchedSpans spans)
    {
        Weighted |= spans.Weight != spans.Spans;
        cell.Weight += spans.Weight;
        cell.Sum += spans.Sum;
        cell.Least = Math.Min(cell.Least, spans.Least);
        cell.Greatest = Math.Max(cell.Greatest, spans.Greatest);
        if (_step.Function.Kind != FunctionKind.Quantile)
            return;
        if (!Sketched)
            Sketch();
        (cell.Sketch ??= new QuantileSketch()).Merge(spans.Sketch);
    }

    private void Sketch()
    {
        Sketched = true;
        foreach (var cell in _groups.Values.SelectMany(cells => cells).OfType<Cell>())
        {
            cell.Sketch = new QuantileSketch();
            foreach (var (value, weight) in cell.Values ?? [])
                cell.Sketch.Add(value, weight);
            cell.Values = null;
        }
    }

    /// <summary>What to know of the figures.</summary>
    /// <param name="step">Number of the step.</param>
    public IEnumerable<Note> Notes(int step)
    {
        if (Weighted)
            yield return new Note(step, "weighted", "Sampled spans count by their weight, so these figures are estimates.");
        if (Sketched)
            yield return new Note(step, "sketch used", $"Above {Quantiles.MostExact:N0} values, quantiles come from a sketch with a relative error of at most {QuantileSketch.RelativeError:P0}.");
        if (WithoutNumber > 0)
            yield return new Note(step, "no number", $"{WithoutNumber:N0} rows have no number under {_step.Field} and are left out.");
    }

    /// <summary>The series.</summary>
    /// <param name="arriving">Minutes in which the source was arriving: there a slot without rows is 0, elsewhere it is empty.</param>
    public SeriesTable Finish(IReadOnlySet<long> arriving)
    {
        var zero = _step.Function.Kind is FunctionKind.Count or FunctionKind.Sum or FunctionKind.Distinct;
        var rows = new List<TableRow>();
        foreach (var (labels, cells) in _groups)
        {
            var values = new double[_slots.Count];
            for (var i = 0; i < values.Length; i++)
                values[i] = cells[i] is { } cell ? Value(cell) : zero && Arrived(i, arriving) ? 0 : double.NaN;
            rows.Add(new TableRow(labels, [], values));
        }
        return new SeriesTable(SeriesKind.Gauge, Unit, _slots, "", [.. rows.OrderBy(row => row.Labels.ToString(), StringComparer.Ordinal)]);
    }

    private string Unit => _step.Function.Kind switch
    {
        FunctionKind.Count => _schema.Kind switch { RowKind.Logs => "{line}", RowKind.Spans => "{span}", RowKind.Flows => "{flow}", RowKind.Alarms => "{change}", _ => "{event}" },
        FunctionKind.Distinct => "1",
        _ => _schema.UnitOf(_step.Field!) is { } unit and not "time" ? unit : "1",
    };

    private double Value(Cell cell) => _step.Function.Kind switch
    {
        FunctionKind.Count => cell.Weight,
        FunctionKind.Sum => cell.Sum,
        FunctionKind.Mean => cell.Sum / cell.Weight,
        FunctionKind.Min => cell.Least,
        FunctionKind.Max => cell.Greatest,
        FunctionKind.StandardDeviation => cell.Spread.Deviation,
        FunctionKind.First => cell.First.Number,
        FunctionKind.Last => cell.Last.Number,
        FunctionKind.Distinct => cell.Different?.Count ?? 0,
        _ => cell.Sketch is { } sketch ? sketch.Quantile(_step.Function.Quantile / 100) : Quantiles.Exact(cell.Values ?? [], _step.Function.Quantile / 100),
    };

    private bool Arrived(int slot, IReadOnlySet<long> arriving)
    {
        var end = _slots.FirstEnd + slot * _slots.Width;
        for (var minute = (end - _slots.Width) / 60_000; minute <= (end - 1) / 60_000; minute++)
            if (arriving.Contains(minute))
                return true;
        return false;
    }

    private Cell?[] Cells(IRow row)
    {
        var value = _step.Grouping is { Except: false, Fields: [var only] } ? row[only].Text : null;
        if (value is not null)
            foreach (var (met, own) in _met)
                if (ReferenceEquals(met, value))
                    return own!;
        var key = Key(row);
        if (!_groups.TryGetValue(key, out var cells))
        {
            if (_groups.Count >= 10_000)
                throw new LimitException(Formatter.Write(_step), "More than 10,000 groups. Group by fewer fields, or narrow with where.");
            _groups[key] = cells = new Cell?[_slots.Count];
        }
        if (value is not null)
            _met[_meeting++ % _met.Length] = (value, cells);
        return cells;
    }

    private Labels Key(IRow row)
    {
        if (_step.Grouping is not { } grouping)
            return Labels.None;
        if (grouping.Except)
            throw new EnquiryException(new(_step.At.Line, _step.At.Column, "except", "Rows are grouped with 'by'; 'except' takes series.", "by"));
        if (grouping.Fields.Count == 1)
        {
            var value = row[grouping.Fields[0]].AsText ?? "";
            if (!_single.TryGetValue(value, out var known))
                _single[value] = known = Labels.From([new(grouping.Fields[0], value)]);
            return known;
        }
        return Labels.From(grouping.Fields.Select(field => new KeyValuePair<string, string>(field, row[field].AsText ?? "")));
    }
}
