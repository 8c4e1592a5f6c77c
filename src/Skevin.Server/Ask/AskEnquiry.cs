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
public sealed record AskScope(string? Namespace, string? Workload);

/// <summary>Which rows of a long answer.</summary>
/// <param name="After">The <c>next</c> of the page before; null for the first.</param>
/// <param name="Size">Rows a page, 1 to 10,000; 500 where it is not said.</param>
public sealed record AskPage(string? After = null, int? Size = null);

/// <summary>An enquiry to answer.</summary>
public sealed record AskRequest(string Text, DateTimeOffset From, DateTimeOffset To, string? Cluster = null, AskScope? Scope = null, AskPage? Page = null);

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
public sealed record AskAnswer(
    string Shape, string Unit, string Every, IReadOnlyList<SeriesView> Series, IReadOnlyList<ColumnView>? Columns, IReadOnlyList<JsonElement?[]>? Rows, string? Next,
    IReadOnlyList<StepView> Steps, IReadOnlyList<NoteView> Notes, string Formatted, string? View = null, int? Total = null);

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
                return (enquiry, await EnquiryRunner.Run(enquiry, ScopePredicate(request.Scope), window, ReaderFor(access, request.Cluster), new Limits(), deadline.Token));
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
        Answering(request, stop, (enquiry, window) => Task.FromResult(RowStream.Of(enquiry, ScopePredicate(request.Scope), window, RowsFor(access, request.Cluster), stop)));

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

    private static Predicate? ScopePredicate(AskScope? scope)
    {
        FieldPredicate Equals(string field, string value) => new(field, Comparison.Equal, [new TextValue(value)], default);
        Predicate? predicate = string.IsNullOrEmpty(scope?.Namespace) ? null : Equals("namespace", scope.Namespace);
        return string.IsNullOrEmpty(scope?.Workload) ? predicate
            : predicate is null ? Equals("workload", scope.Workload) : new AndPredicate(predicate, Equals("workload", scope.Workload));
    }
}
