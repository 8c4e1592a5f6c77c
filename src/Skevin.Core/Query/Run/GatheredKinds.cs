using Skevin.Core.Logs;

namespace Skevin.Core.Query.Run;

/// <summary>Looks at every row and tells something of all.</summary>
internal interface IRowGatherer
{
    void Add(IRow row);
}

/// <summary>The rows of <c>kinds</c>.</summary>
internal sealed class GatheredKinds : IRowGatherer
{
    public static readonly IReadOnlyList<AnswerColumn> Columns = [new("kind", ""), new("count", "{line}"), new("example", ""), new("time", "time")];

    private readonly LineKinds _kinds = new();

    public void Add(IRow row)
    {
        if (row["text"].AsText is { } text)
            _kinds.Add(text, row.Milliseconds, row.Weight);
    }

    public IReadOnlyList<IRow> Finish() => [.. _kinds.Finish().Select(kind => new MadeRow(new Dictionary<string, FieldValue>
    {
        ["kind"] = FieldValue.Of(kind.Text), ["count"] = FieldValue.Of(kind.Count), ["example"] = FieldValue.Of(kind.Example), ["time"] = FieldValue.Of((double)kind.Newest),
    }, kind.Newest, kind.Count))];
}
