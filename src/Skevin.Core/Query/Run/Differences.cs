using System.Runtime.InteropServices;
using Skevin.Core.Query.Language;
using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>
/// Compares the rows that fulfil a condition with the rest: which values of which fields are more frequent among them. The likeliest explanations
/// come first, by the log-likelihood ratio G² of the two-by-two table (Dunning 1993).
/// </summary>
/// <param name="condition">Whose rows are compared with the rest; its own fields explain nothing.</param>
/// <param name="schema">Of the rows.</param>
internal sealed class Differences(Predicate condition, RowSchema schema) : IRowGatherer
{
    public static readonly IReadOnlyList<AnswerColumn> Columns = [new("field", ""), new("value", ""), new("inside", "%"), new("outside", "%"), new("lift", "1")];

    private const int MostValues = 1000;
    private const int MostShown = 200;

    // Every row has another one of these, so they explain nothing.
    private static readonly HashSet<string> Apart = ["time", "text", "trace", "span", "parent", "duration", "exception.stacktrace", "exception.message", "flows", "packets", "bytes", "failed"];

    private readonly Func<IRow, bool> _inside = Matching.Compile(RowConditions.Fit(schema.Kind, condition));
    private readonly HashSet<string> _apart = [.. Apart, .. Matching.FieldsOf(condition).Select(FieldNames.Shortest)];
    private readonly HashSet<string> _counted = [];
    private readonly HashSet<string> _known = [.. RowFields.Of(schema.Kind).Select(known => known.Name).Except(Apart).Except(Matching.FieldsOf(condition))];
    private readonly Dictionary<string, Dictionary<string, (double Inside, double Outside)>?> _fields = [];
    private (double Inside, double Outside) _all;

    /// <summary>Why there is nothing to compare; null where there is.</summary>
    public string? Empty => _all switch
    {
        (0, 0) => null,
        (0, _) => "No row fulfils the condition, so there is nothing to compare with the rest.",
        (_, 0) => "Every row fulfils the condition, so there is no rest to compare with.",
        _ => null,
    };

    public void Add(IRow row)
    {
        var fulfils = _inside(row);
        _all = Plus(_all, fulfils, row.Weight);
        foreach (var field in _known)
            Count(field, row, fulfils);
        _counted.Clear();
        foreach (var attribute in row.Fields)
            if (FieldNames.Shortest(attribute) is var field && !_known.Contains(field) && !_apart.Contains(field) && _counted.Add(field))
                Count(field, row, fulfils);
    }

    private void Count(string field, IRow row, bool fulfils)
    {
        if ((_fields.TryGetValue(field, out var values) && values is null) || row[field].AsText is not { } value)
            return;
        if (values is null)
            _fields[field] = values = [];
        ref var count = ref CollectionsMarshal.GetValueRefOrAddDefault(values, value, out _);
        count = Plus(count, fulfils, row.Weight);
        // A field with a value for nearly every row names rows, it does not group them.
        if (values.Count > MostValues)
            _fields[field] = null;
    }

    public IReadOnlyList<IRow> Finish(long milliseconds) =>
        [.. _fields.Where(field => field.Value is not null)
            .SelectMany(field => field.Value!.Select(value => (Field: field.Key, Value: value.Key, Count: value.Value)))
            .Where(one => one.Count.Inside > 0 && Lift(one.Count) > 1)
            .OrderByDescending(one => Likelihood(one.Count)).ThenBy(one => one.Field, StringComparer.Ordinal).ThenBy(one => one.Value, StringComparer.Ordinal)
            .Take(MostShown)
            .Select(one => new MadeRow(new Dictionary<string, FieldValue>
            {
                ["field"] = FieldValue.Of(one.Field), ["value"] = FieldValue.Of(one.Value),
                ["inside"] = FieldValue.Of(100 * one.Count.Inside / _all.Inside), ["outside"] = FieldValue.Of(_all.Outside == 0 ? 0 : 100 * one.Count.Outside / _all.Outside),
                ["lift"] = FieldValue.Of(Lift(one.Count)),
            }, milliseconds))];

    // How much more frequent a value is among the rows inside than among all: 1 where it makes no difference.
    private double Lift((double Inside, double Outside) count) =>
        count.Inside / _all.Inside / ((count.Inside + count.Outside) / (_all.Inside + _all.Outside));

    private double Likelihood((double Inside, double Outside) count)
    {
        double Term(double observed, double row, double column) => observed <= 0 ? 0 : observed * Math.Log(observed * (_all.Inside + _all.Outside) / (row * column));
        var (with, without) = (count.Inside + count.Outside, _all.Inside + _all.Outside - count.Inside - count.Outside);
        return 2 * (Term(count.Inside, with, _all.Inside) + Term(count.Outside, with, _all.Outside)
            + Term(_all.Inside - count.Inside, without, _all.Inside) + Term(_all.Outside - count.Outside, without, _all.Outside));
    }

    private static (double, double) Plus((double Inside, double Outside) count, bool inside, double weight) =>
        inside ? (count.Inside + weight, count.Outside) : (count.Inside, count.Outside + weight);
}
