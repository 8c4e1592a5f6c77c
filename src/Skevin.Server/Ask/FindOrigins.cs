using Skevin.Core.Access;
using Skevin.Core.Arrivals;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Server.Arrivals;
using Skevin.Server.Clusters;
using Skevin.Server.Collection;
using Skevin.Server.Setup;

namespace Skevin.Server.Ask;

/// <summary>A series of an answer whose origin is wanted.</summary>
/// <param name="Text">The enquiry.</param>
/// <param name="Labels">The labels the answer gave it.</param>
public sealed record OriginsRequest(string Text, string Cluster, DateTimeOffset From, DateTimeOffset To, IReadOnlyDictionary<string, string> Labels);

/// <summary>Something a series comes from.</summary>
/// <param name="Source">The expected source's name; null for what a program sent by itself, over OTLP.</param>
/// <param name="Series">Stored series from it; 0 for rows.</param>
/// <param name="SentBy">The collector, in words.</param>
/// <param name="Agent">Its pod, null where there is none now.</param>
/// <param name="Target">What it reads: a pod or node.</param>
/// <param name="State">How it arrives now; null where it is not expected any more.</param>
/// <param name="Rights">What reading it takes, each with its need.</param>
public sealed record OriginView(string Signal, string? Source, int Series, string SentBy, string? Agent, string? Target, ArrivalState? State, string? Cause, IReadOnlyList<string> Rights);

/// <summary>Where a series comes from.</summary>
/// <param name="Revision">Revision of the collection plan in force; null where there is none.</param>
/// <param name="Since">When it was rolled out.</param>
/// <param name="Total">How many origins there are; the first ones are given.</param>
public sealed record OriginsView(int? Revision, DateTimeOffset? Since, int Total, IReadOnlyList<OriginView> Origins);

/// <summary>Finds which agents, targets and rights a series of an answer comes from.</summary>
public sealed class FindOrigins(AskEnquiry ask, ClusterWatchers watchers, JudgeArrivals judge, PlansInForce plans)
{
    private const int Most = 50;

    /// <summary>Does it.</summary>
    public async Task<Outcome<OriginsView>> Run(OriginsRequest request, AccessScope access, CancellationToken stop)
    {
        Enquiry enquiry;
        try
        {
            enquiry = Parser.Read(request.Text ?? "");
        }
        catch (EnquiryException wrong)
        {
            return new Problem(400, "The enquiry cannot be read.", $"Line {wrong.Error.Line}, column {wrong.Error.Column}: {wrong.Error.Message}", new[] { wrong.Error });
        }
        if (watchers.Find(request.Cluster ?? "") is not { } watched || !access.Sees(watched.Name))
            return ClusterEndpoints.NotThere(request.Cluster);
        var labels = request.Labels ?? new Dictionary<string, string>();
        var judged = (await judge.Run(watched, stop)).Where(source => access.Sees(watched.Name, source.Evidence.Expected.Namespace)).ToArray();
        var origins = new List<OriginView>();
        foreach (var body in enquiry.Parts.Select(part => part.Body))
        {
            var tests = body.Steps.TakeWhile(step => step is WhereStep).Select(step => Matching.OfLabels(((WhereStep)step).Predicate)).ToArray();
            if (body.Source is MetricSource { Name: not Words.Arrivals } metric)
                origins.AddRange((await ask.SeriesFor(access, request.Cluster).Find(metric.Name, request.From.ToUnixTimeMilliseconds(), request.To.ToUnixTimeMilliseconds(), stop))
                    .Where(series => tests.All(test => test(series.Key.Labels)) && Fits(labels, field => FieldNames.Value(series.Key.Labels, field)))
                    .GroupBy(series => series.Source).Select(group => Of("metrics", group.Key, group.Count(), judged)));
            else if (body.Source is RowSource { Kind: not RowKind.Alarms } rows)
                origins.AddRange(judged.Where(source => Gives(rows.Kind, source.Evidence.Expected) && Fits(labels, field => Field(source.Evidence.Expected, field)))
                    .Select(source => Of(source.Evidence.Expected.Signal, source.Evidence.Expected.Name, 0, judged)));
        }
        var distinct = origins.DistinctBy(origin => (origin.Signal, origin.Source)).OrderBy(origin => origin.Source, StringComparer.Ordinal).ToArray();
        var revision = await plans.InForce(watched.Id, stop);
        return new OriginsView(revision?.Revision, revision?.AppliedAt, distinct.Length, [.. distinct.Take(Most)]);
    }

    // A label the series or source does not have was made on the way and says nothing of where it comes from.
    private static bool Fits(IReadOnlyDictionary<string, string> labels, Func<string, string?> field) => labels.All(label => field(label.Key) is not { } own || own == label.Value);

    private static bool Gives(RowKind kind, ExpectedSource source) => kind switch
    {
        RowKind.Spans => source.Signal == "traces",
        RowKind.Flows => source.Signal == "flows",
        RowKind.Events => source.Kind == SourceKind.ClusterEvents,
        _ => source.Kind == SourceKind.ContainerLog,
    };

    private static string? Field(ExpectedSource source, string field) => field switch
    {
        "namespace" => source.Namespace,
        "pod" when source.Kind != SourceKind.WorkloadSpans => source.Target?.Name,
        "workload" => source.Target?.Workload,
        "service" => source.Target?.Workload,
        "node" => source.Agent?.Node,
        _ => null,
    };

    private static OriginView Of(string signal, string? name, int series, IReadOnlyList<JudgedSource> judged)
    {
        if (name is null)
            return new OriginView(signal, null, series, "a program that sends OTLP by itself", null, null, null, null, []);
        if (judged.FirstOrDefault(source => source.Evidence.Expected.Signal == signal && source.Evidence.Expected.Name == name) is not { } found)
            return new OriginView(signal, name, series, "an agent, earlier", null, null, null, null, []);
        var expected = found.Evidence.Expected;
        return new OriginView(signal, name, series, expected.SentBy, expected.Agent is { } agent ? $"{agent.Namespace}/{agent.Name}" : null,
            expected.Target is { } target ? $"{target.Namespace}/{target.Name}" : expected.Agent?.Node, found.State, Core.Diagnosis.Diagnoses.Of(found)?.Short, SourceRights.Of(expected.Kind));
    }
}
