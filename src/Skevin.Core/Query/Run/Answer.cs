using Skevin.Core.Series;

namespace Skevin.Core.Query.Run;

/// <summary>The stretch of time an enquiry is asked over.</summary>
/// <param name="From">Epoch milliseconds, excluded.</param>
/// <param name="To">Epoch milliseconds, included.</param>
public readonly record struct Window(long From, long To);

/// <summary>A series of an answer.</summary>
/// <param name="Labels">What it stands for.</param>
/// <param name="Values">One a slot; NaN where a slot is empty.</param>
public sealed record AnswerSeries(Labels Labels, double[] Values);

/// <summary>How many series or rows a step left.</summary>
/// <param name="Text">The step as written by the formatter.</param>
/// <param name="Left">Series or rows left after it.</param>
/// <param name="Scope">Whether this step was added by the chosen scope.</param>
/// <param name="AtLeast">Whether there may be more: rows that a later step cannot want were passed over unread.</param>
public sealed record StepAccount(string Text, long Left, bool Scope = false, bool AtLeast = false);

/// <summary>Something a reader should know about a step.</summary>
/// <param name="Step">Counts from 0; the source is step 0.</param>
/// <param name="Kind">For example <c>nothing left</c> or <c>gap</c>.</param>
/// <param name="Text">In words.</param>
/// <param name="Cure">A step or value that would help, or null.</param>
/// <param name="Gap">For <c>gap</c>: what was left out of the slots.</param>
public sealed record Note(int Step, string Kind, string Text, string? Cure = null, GapDetail? Gap = null);

/// <summary>A stretch without samples in one series.</summary>
public sealed record GapDetail(Labels Labels, long From, long To, double Rise);

/// <summary>A column of rows.</summary>
/// <param name="Unit">UCUM unit of its numbers; empty for text, <c>time</c> for moments in epoch milliseconds.</param>
public sealed record AnswerColumn(string Name, string Unit);

/// <summary>Rows of an answer.</summary>
/// <param name="View">What they are: logs, spans, flows, events, traces, graph; or table.</param>
/// <param name="Columns">The columns.</param>
/// <param name="Rows">One value a column: text, a number, or null.</param>
public sealed record AnswerRows(string View, IReadOnlyList<AnswerColumn> Columns, IReadOnlyList<object?[]> Rows);

/// <summary>The answer to an enquiry.</summary>
/// <param name="Unit">UCUM unit of the values.</param>
/// <param name="Every">Width of a slot.</param>
/// <param name="FirstEnd">End of the first slot, epoch milliseconds.</param>
/// <param name="Series">The series.</param>
/// <param name="Steps">The account, the source first.</param>
/// <param name="Notes">What to know.</param>
/// <param name="Rows">Rows instead of series, or null.</param>
public sealed record Answer(
    string Unit, TimeSpan Every, long FirstEnd, IReadOnlyList<AnswerSeries> Series, IReadOnlyList<StepAccount> Steps,
    IReadOnlyList<Note> Notes, AnswerRows? Rows = null);

/// <summary>Where an enquiry finds its series. An implementation is bound to one reader's access scope.</summary>
public interface ISeriesReader
{
    /// <summary>Names of all metrics this reader may see.</summary>
    IEnumerable<string> Metrics();

    /// <summary>Series of a metric that may have samples in (from, to].</summary>
    Task<IReadOnlyList<StoredSeries>> Find(string metric, long from, long to, CancellationToken stop);

    /// <summary>Samples with from &lt; time ≤ to, in order of time, one list for each series in the order asked.</summary>
    Task<IReadOnlyList<Sample[]>> Read(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop);

    /// <summary>Summaries of the stretches that touch (from, to], in order of time, one run for each series in the order asked.</summary>
    /// <param name="series">Of one metric.</param>
    /// <param name="from">Epoch milliseconds.</param>
    /// <param name="to">Epoch milliseconds.</param>
    /// <param name="width">One of <see cref="SummaryRun.Widths"/>.</param>
    /// <param name="stop">Cancels.</param>
    async Task<IReadOnlyList<SummaryRun>> ReadSummaries(IReadOnlyList<StoredSeries> series, long from, long to, long width, CancellationToken stop) =>
        [.. (await Read(series, SummaryRun.EndOf(from + 1, width) - width, SummaryRun.EndOf(to, width), stop)).Select(run => SummaryRun.Of(run, width))];

    /// <summary>Histograms with from &lt; time ≤ to, in order of time, one list for each series in the order asked.</summary>
    Task<IReadOnlyList<HistogramSample[]>> ReadHistograms(IReadOnlyList<StoredSeries> series, long from, long to, CancellationToken stop) =>
        Task.FromResult<IReadOnlyList<HistogramSample[]>>([.. series.Select(_ => Array.Empty<HistogramSample>())]);

    /// <summary>From here on single samples are kept; of what is older there are summaries only. Epoch milliseconds.</summary>
    long SamplesFrom => long.MinValue;
}

/// <summary>An enquiry would read or return more than the limits allow.</summary>
/// <param name="step">The step to narrow.</param>
/// <param name="message">What to do.</param>
public sealed class LimitException(string step, string message) : Exception(message)
{
    /// <summary>The step to narrow.</summary>
    public string Step { get; } = step;
}
