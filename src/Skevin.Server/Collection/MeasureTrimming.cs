using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Core.Collection;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Server.Ask;
using Skevin.Server.Dashboards;
using Skevin.Storage;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Collection;

/// <summary>What the newest revision changed, measured.</summary>
/// <param name="Before">Samples, lines, spans and flow records a second, by signal, mean of the 10 min before it was applied.</param>
/// <param name="After">The same since then, at most the last 10 min; empty while that is less than two minutes.</param>
public sealed record RevisionEffect(int Revision, DateTimeOffset AppliedAt, IReadOnlyDictionary<string, double> Before, IReadOnlyDictionary<string, double> After);

/// <summary>What costs most.</summary>
/// <param name="Metrics">The dearest first.</param>
/// <param name="Lines">Kinds of line of the workloads that write most.</param>
/// <param name="Effect">Null before the first roll-out.</param>
public sealed record TrimmingView(IReadOnlyList<MetricCost> Metrics, IReadOnlyList<LineCost> Lines, RevisionEffect? Effect);

/// <summary>Measures what metrics and kinds of line cost, from what is stored, in a reader's scope.</summary>
public sealed class MeasureTrimming(SampleStore store, Heads heads, AskEnquiry ask, AskedMetrics asked, SheetBook sheets, PlansInForce plans, IDbContextFactory<SkevinContext> contexts, TimeProvider clock)
{
    private const int Workloads = 4;
    private const int KindsEach = 4;
    private static readonly TimeSpan Over = TimeSpan.FromMinutes(5);
    private static readonly TimeSpan EffectOver = TimeSpan.FromMinutes(10);

    /// <summary>Measures a cluster.</summary>
    public async Task<TrimmingView> Run(int id, string cluster, AccessScope scope, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var (from, to) = ((now - Over).ToUnixTimeMilliseconds(), now.ToUnixTimeMilliseconds());
        var alive = StoredRates.BySeries(ask.SeriesFor(scope, cluster), heads, from, to);
        return new TrimmingView(Trimming.Metrics(alive, await UsedBy(id, stop), await asked.Read(stop)), await Lines(cluster, scope, new Window(from, to), stop), await Effect(id, now, stop));
    }

    private async Task<ILookup<string, string>> UsedBy(int cluster, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var rules = await context.AlarmRules.AsNoTracking().Where(rule => rule.ClusterId == cluster).Select(rule => new { rule.Name, rule.Document }).ToListAsync(stop);
        return (await sheets.All(stop)).SelectMany(sheet => sheet.Strips.Select(strip => (By: "sheet " + sheet.Title, strip.Text)))
            .Concat(rules.Select(rule => (By: "alert rule " + rule.Name, Text: JsonDocument.Parse(rule.Document).RootElement.TryGetProperty("when", out var text) ? text.GetString() ?? "" : "")))
            .SelectMany(use => NamesIn(use.Text).Select(metric => (metric, use.By))).ToLookup(use => use.metric, use => use.By);
    }

    private static IEnumerable<string> NamesIn(string text)
    {
        try
        {
            return [.. AskedMetrics.In(Parser.Read(text))];
        }
        catch (EnquiryException)
        {
            return [];
        }
    }

    private async Task<IReadOnlyList<LineCost>> Lines(string cluster, AccessScope scope, Window window, CancellationToken stop)
    {
        async Task<Answer> Ask(string text, Predicate? only = null) => await EnquiryRunner.Run(Parser.Read(text), only, window, ask.ReaderFor(scope, cluster), new Limits(), stop);
        FieldPredicate Equals(string field, string value) => new(field, Comparison.Equal, [new TextValue(value)], default);
        double Total(IEnumerable<double> values) => values.Where(double.IsFinite).Sum();
        var counted = (await Ask("logs -> count by namespace, workload every 1m")).Series.Select(series => (Namespace: series.Labels["namespace"], Workload: series.Labels["workload"], Lines: Total(series.Values))).ToArray();
        var all = counted.Sum(one => one.Lines);
        var costs = new List<LineCost>();
        foreach (var (ns, workload, _) in counted.Where(one => one.Namespace is not null && one.Workload is not null).OrderByDescending(one => one.Lines).Take(Workloads))
        {
            var kinds = (await Ask($"logs -> kinds -> first {KindsEach}", new AndPredicate(Equals("namespace", ns!), Equals("workload", workload!)))).Rows!;
            var (kind, count, example) = (kinds.Columns.Index().First(column => column.Item.Name == "kind").Index, kinds.Columns.Index().First(column => column.Item.Name == "count").Index, kinds.Columns.Index().First(column => column.Item.Name == "example").Index);
            costs.AddRange(kinds.Rows.Select(row => new LineCost($"{ns}/{workload}", (string)row[kind]!, (double)row[count]! / Over.TotalSeconds, all > 0 ? (double)row[count]! / all : 0, (string)row[example]!)));
        }
        return [.. costs.OrderByDescending(cost => cost.LinesPerSecond)];
    }

    private async Task<RevisionEffect?> Effect(int cluster, DateTimeOffset now, CancellationToken stop)
    {
        if ((await plans.Revisions(cluster, stop)).FirstOrDefault(revision => revision.AppliedAt is not null) is not { AppliedAt: { } applied } revision)
            return null;
        // The minute of the roll-out and the one behind it belong to both; the running minute is not over.
        var (rolled, running) = (applied.ToUnixTimeSeconds() / 60, now.ToUnixTimeSeconds() / 60);
        return new RevisionEffect(revision.Revision, applied, await StoredRates.BySignal(store, cluster, rolled - (long)EffectOver.TotalMinutes, rolled, stop),
            await StoredRates.BySignal(store, cluster, Math.Max(rolled + 2, running - (long)EffectOver.TotalMinutes), running, stop));
    }
}
