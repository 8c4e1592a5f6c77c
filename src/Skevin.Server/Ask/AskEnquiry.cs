using System.Text.Json;
using Skevin.Core.Access;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Server.Arrivals;
using Skevin.Server.Clusters;
using Skevin.Server.Setup;
using Skevin.Storage.Blocks;
using Skevin.Storage.Flows;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Ask;

/// <summary>The scope chosen in the page; it becomes a step of its own.</summary>
/// <param name="Fields">Field → values that were chosen of it beside; each becomes a step of its own.</param>
public sealed record AskScope(string? Namespace, string? Workload, IReadOnlyDictionary<string, IReadOnlyList<string>>? Fields = null)
{
    private static FieldPredicate Equals(string field, string value) => new(field, Comparison.Equal, [new TextValue(value)], default);

    /// <summary>Namespace and workload as one condition; null without them.</summary>
    public Predicate? Condition =>
        (string.IsNullOrEmpty(Namespace) ? null : Equals("namespace", Namespace), string.IsNullOrEmpty(Workload) ? null : Equals("workload", Workload)) switch
        {
            ({ } space, { } workload) => new AndPredicate(space, workload),
            var (space, workload) => space ?? workload,
        };

    /// <summary>A condition for each field of which values were chosen.</summary>
    public IReadOnlyList<FieldPredicate> Choices =>
        [.. (Fields ?? new Dictionary<string, IReadOnlyList<string>>()).Where(pair => pair.Value is { Count: > 0 }).Select(pair => pair.Value.Count == 1 ? Equals(pair.Key, pair.Value[0]) : new FieldPredicate(pair.Key, Comparison.In, [.. pair.Value.Select(value => new TextValue(value))], default))];
}

/// <summary>Which rows of a long answer.</summary>
/// <param name="After">The <c>next</c> of the page before; null for the first.</param>
/// <param name="Size">Rows a page, 1 to 10,000; 500 where it is not said.</param>
public sealed record AskPage(string? After = null, int? Size = null);

/// <summary>An enquiry to answer.</summary>
/// <param name="Bounds">Quantities the answer gives in its own unit, for lines beside its values.</param>
public sealed record AskRequest(string Text, DateTimeOffset From, DateTimeOffset To, string? Cluster = null, AskScope? Scope = null, AskPage? Page = null, IReadOnlyList<string>? Bounds = null)
{
    /// <summary>Most bounds that are given back; further ones are left out.</summary>
    public const int MostBounds = 8;
}

/// <summary>A series of an answer.</summary>
/// <param name="Labels">What it stands for.</param>
/// <param name="Points">Epoch milliseconds and value; null where a slot is empty.</param>
public sealed record SeriesView(IReadOnlyDictionary<string, string> Labels, IReadOnlyList<IReadOnlyList<double?>> Points);

/// <summary>The account of a step.</summary>
/// <param name="AtLeast">Whether there may be more than <paramref name="Left"/>: blocks that a later step cannot find anything in were passed over.</param>
public sealed record StepView(string Text, long Left, bool Scope, bool AtLeast);

/// <summary>A column of rows.</summary>
/// <param name="Unit">UCUM unit; empty for text, <c>time</c> for epoch milliseconds.</param>
public sealed record ColumnView(string Name, string Unit);

/// <summary>A gap in a series.</summary>
public sealed record GapView(IReadOnlyDictionary<string, string> Labels, DateTimeOffset From, DateTimeOffset To, double Rise);

/// <summary>A note about a step.</summary>
public sealed record NoteView(int Step, string Kind, string Text, string? Cure, GapView? Gap);

/// <summary>An answer.</summary>
/// <param name="Shape"><c>series</c> or <c>rows</c>.</param>
/// <param name="Every">Width of a slot, as in the language.</param>
/// <param name="View">What rows are: logs, spans, flows, events, traces, graph or table.</param>
/// <param name="Total">How many rows there are in all.</param>
/// <param name="Bounds">The bounds that were asked with it, in <paramref name="Unit"/>; null where one does not fit, which a note tells.</param>
public sealed record AskAnswer(
    string Shape, string Unit, string Every, IReadOnlyList<SeriesView> Series, IReadOnlyList<ColumnView>? Columns, IReadOnlyList<JsonElement?[]>? Rows, string? Next,
    IReadOnlyList<StepView> Steps, IReadOnlyList<NoteView> Notes, string Formatted, string? View = null, int? Total = null, IReadOnlyList<double?>? Bounds = null);

/// <summary>Answers enquiries in a reader's access scope.</summary>
public sealed class AskEnquiry(SampleStore store, SeriesIndex index, Heads heads, AddressBooks books, ClusterWatchers watchers, JudgeArrivals judge, AskedMetrics asked, Retentions retentions, TimeProvider clock)
{
    private static readonly TimeSpan Deadline = TimeSpan.FromSeconds(30);

    /// <summary>A reader for a person, of one cluster or all they may see.</summary>
    public EnquiryReader ReaderFor(AccessScope access, string? cluster) =>
        new(new ArrivalSeries(SeriesFor(access, cluster), store.Database, watchers, judge, access, cluster, clock), RowsFor(access, cluster));

    /// <summary>The reader of series.</summary>
    public ScopedReader SeriesFor(AccessScope access, string? cluster) => new(store, index, heads, access, cluster, DayPartitions.StartOf(clock.GetUtcNow() - retentions.Of("metrics")));

    /// <summary>The reader of rows.</summary>
    public RowReader RowsFor(AccessScope access, string? cluster) => new(store.Database, books, access, cluster);

    /// <summary>Answers.</summary>
    /// <param name="request">The enquiry.</param>
    /// <param name="access">What the reader may see.</param>
    /// <param name="stop">Cancels.</param>
    public async Task<Outcome<(Enquiry Enquiry, Answer Answer)>> Run(AskRequest request, AccessScope access, CancellationToken stop)
    {
        using var deadline = CancellationTokenSource.CreateLinkedTokenSource(stop);
        deadline.CancelAfter(Deadline);
        return await Answering(request, stop, async (enquiry, window) =>
        {
            asked.Note(enquiry);
            var began = System.Diagnostics.Stopwatch.GetTimestamp();
            try
            {
                return (enquiry, await EnquiryRunner.Run(enquiry, request.Scope?.Condition, window, ReaderFor(access, request.Cluster), new Limits(), deadline.Token, choices: request.Scope?.Choices));
            }
            finally
            {
                OwnMetrics.Asked(began);
            }
        });
    }

    /// <summary>The rows of an enquiry given on as they are read, without a cap; null where a step must see all of them first.</summary>
    /// <param name="request">The enquiry.</param>
    /// <param name="access">What the reader may see.</param>
    /// <param name="stop">Cancels, also while the rows are read.</param>
    public Task<Outcome<RowStream?>> Stream(AskRequest request, AccessScope access, CancellationToken stop) =>
        Answering(request, stop, (enquiry, window) => Task.FromResult(RowStream.Of(enquiry, request.Scope is { } scope ? scope.Choices.Aggregate(scope.Condition, (all, one) => all is null ? one : new AndPredicate(all, one)) : null, window, RowsFor(access, request.Cluster), stop)));

    private static async Task<Outcome<T>> Answering<T>(AskRequest request, CancellationToken stop, Func<Enquiry, Window, Task<T>> answer)
    {
        if (request.To <= request.From)
            return new Problem(400, "The window is empty.", "'to' must be later than 'from'.");
        try
        {
            return await answer(Parser.Read(request.Text ?? ""), new Window(request.From.ToUnixTimeMilliseconds(), request.To.ToUnixTimeMilliseconds()));
        }
        catch (EnquiryException wrong)
        {
            return new Problem(400, "The enquiry cannot be read.", $"Line {wrong.Error.Line}, column {wrong.Error.Column}: {wrong.Error.Message}", new[] { wrong.Error });
        }
        catch (LimitException limit)
        {
            return new Problem(422, "The enquiry is too large.", $"{limit.Step}: {limit.Message}");
        }
        catch (OperationCanceledException) when (!stop.IsCancellationRequested)
        {
            return new Problem(422, "The enquiry took too long.", $"It was given up after {Deadline.TotalSeconds:0} s. Narrow the window or add a where step.");
        }
    }
}
