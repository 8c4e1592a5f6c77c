using System.Globalization;
using System.Security.Claims;
using System.Text.Json;
using Microsoft.AspNetCore.Http.HttpResults;
using Skevin.Core.Access;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Server.Access;
using Skevin.Server.Ask.Export;
using Skevin.Server.People;
using Skevin.Server.Setup;

namespace Skevin.Server.Ask;

/// <summary>A metric that can be asked.</summary>
public sealed record MetricView(string Name, string Kind, string Unit, int Series);

/// <summary>A field of a metric with its values.</summary>
public sealed record FieldView(string Name, IReadOnlyList<string> Values, int Count);

/// <summary>Station 4.</summary>
public static class AskEndpoints
{
    private const int MostValues = 200;

    /// <summary>Adds its services.</summary>
    public static void AddAsk(this IServiceCollection services) => services.AddSingleton<AskedMetrics>().AddSingleton<AskEnquiry>().AddSingleton<ExportAnswer>().AddSingleton<ShowTrace>().AddSingleton<FindOrigins>().AddSingleton<EnquiryBook>();

    /// <summary>Maps its endpoints.</summary>
    public static void MapAsk(this IEndpointRouteBuilder routes)
    {
        routes.MapKeptEnquiries();
        routes.MapPost("/api/ask", async Task<IResult> (AskRequest body, ClaimsPrincipal user, HttpContext context, AskEnquiry ask, ExportAnswer export, CancellationToken stop) =>
        {
            if (ExportAnswer.Wanted(context.Request) is { } file)
            {
                var written = await export.Run(body, file, user.Scope(), stop);
                return written.Problem is { } wrong ? wrong.Http() : written.Value!;
            }
            var outcome = await ask.Run(body, user.Scope(), stop);
            return outcome.Problem is { } problem ? problem.Http() : TypedResults.Ok(View(outcome.Value.Enquiry, outcome.Value.Answer, body.Page, body.Bounds));
        }).Produces<AskAnswer>().ProducesProblem(400).Needs(Roles.Reader).OnlyReads();
        routes.MapPost("/api/ask/origins", async Task<Results<Ok<OriginsView>, ProblemHttpResult>> (OriginsRequest body, ClaimsPrincipal user, FindOrigins find, CancellationToken stop) =>
            (await find.Run(body, user.Scope(), stop)).Http()).Needs(Roles.Reader).OnlyReads();
        routes.MapGet("/api/ask/metrics", (string? cluster, ClaimsPrincipal user, AskEnquiry ask) => ask.SeriesFor(user.Scope(), cluster).All()
            .GroupBy(series => series.Key.Metric)
            .Select(group => new MetricView(group.Key, group.First().Key.Kind.ToString().ToLowerInvariant(), group.First().Key.Unit, group.Count()))
            .OrderBy(metric => metric.Name, StringComparer.Ordinal).ToArray()).Needs(Roles.Reader);
        routes.MapGet("/api/ask/fields", async (string metric, string? cluster, ClaimsPrincipal user, AskEnquiry ask, TimeProvider clock, CancellationToken stop) =>
        {
            var now = clock.GetUtcNow();
            var found = metric == Words.Arrivals
                ? await ask.ReaderFor(user.Scope(), cluster).Series.Find(metric, now.AddHours(-1).ToUnixTimeMilliseconds(), now.ToUnixTimeMilliseconds(), stop)
                : ask.SeriesFor(user.Scope(), cluster).All().Where(series => series.Key.Metric == metric);
            var labels = found.Select(series => series.Key.Labels).ToArray();
            return labels.SelectMany(own => own.Select(pair => FieldNames.Shortest(pair.Key))).Distinct().Order(StringComparer.Ordinal)
                .Select(field =>
                {
                    var values = labels.Select(own => FieldNames.Value(own, field)).OfType<string>().Distinct().Order(StringComparer.Ordinal).ToArray();
                    return new FieldView(field, [.. values.Take(MostValues)], values.Length);
                }).ToArray();
        }).Needs(Roles.Reader);
        routes.MapGet("/api/ask/row-fields", async Task<Results<Ok<IReadOnlyList<FieldView>>, ProblemHttpResult>> (
            string kind, string? cluster, DateTimeOffset from, DateTimeOffset to, ClaimsPrincipal user, AskEnquiry ask, CancellationToken stop) =>
            Words.RowSources.TryGetValue(kind, out var rows)
                ? TypedResults.Ok(await RowVocabulary.Of(rows, ask.RowsFor(user.Scope(), cluster), from, to, stop))
                : new Problem(400, "No such rows.", $"kind is one of {string.Join(", ", Words.RowSources.Keys)}.").Http()).Needs(Roles.Reader);
        routes.MapGet("/api/ask/words", () => new { steps = Words.Steps, comparisons = Words.Comparisons, functions = Words.Functions.Keys.Append("p95"), sources = Words.RowSources.Keys.Append(Words.Arrivals), rows = Words.RowSources.Keys }).Needs(Roles.Reader);
        routes.MapGet("/api/traces/{trace}", async Task<Results<Ok<TraceView>, ProblemHttpResult>> (string trace, string? cluster, ClaimsPrincipal user, AskEnquiry ask, ShowTrace show, CancellationToken stop) =>
            (await show.Run(trace, cluster, user.Scope(), stop)).Http()).Needs(Roles.Reader);
    }

    /// <summary>An answer in its JSON shape.</summary>
    public static AskAnswer View(Enquiry enquiry, Answer answer, AskPage? page = null, IReadOnlyList<string>? bounds = null)
    {
        var notes = answer.Notes.ToList();
        var given = bounds?.Take(AskRequest.MostBounds).Select(text =>
        {
            if (Units.TryBound(text, answer.Unit, out var number, out var wrong))
                return number;
            notes.Add(new Note(Math.Max(0, answer.Steps.Count - 1), "bound", $"The bound is not drawn: {wrong}"));
            return (double?)null;
        }).ToArray();
        var width = (long)answer.Every.TotalMilliseconds;
        var from = int.TryParse(page?.After, NumberStyles.None, CultureInfo.InvariantCulture, out var after) ? after : 0;
        var size = Math.Clamp(page?.Size ?? 500, 1, 10_000);
        var rows = answer.Rows?.Rows.Skip(from).Take(size).Select(row => row.Select(value => value is null ? (JsonElement?)null : JsonSerializer.SerializeToElement(value)).ToArray()).ToArray();
        return new AskAnswer(
            answer.Rows is null ? "series" : "rows", answer.Unit, Units.Write(answer.Every),
            [.. answer.Series.Select(series => new SeriesView(Map(series.Labels),
                [.. series.Values.Select((value, i) => (IReadOnlyList<double?>)[answer.FirstEnd + i * width, double.IsFinite(value) ? value : null])]))],
            answer.Rows?.Columns.Select(column => new ColumnView(column.Name, column.Unit)).ToArray(), rows,
            answer.Rows is { } all && from + size < all.Rows.Count ? (from + size).ToString(CultureInfo.InvariantCulture) : null,
            [.. answer.Steps.Select(step => new StepView(step.Text, step.Left, step.Scope, step.AtLeast))],
            [.. notes.Select(note => new NoteView(note.Step, note.Kind, note.Text, note.Cure, note.Gap is { } gap
                ? new GapView(Map(gap.Labels), DateTimeOffset.FromUnixTimeMilliseconds(gap.From), DateTimeOffset.FromUnixTimeMilliseconds(gap.To), gap.Rise)
                : null))],
            Formatter.Write(enquiry), answer.Rows?.View, answer.Rows?.Rows.Count, given);
    }

    private static Dictionary<string, string> Map(Labels labels) => labels.ToDictionary(pair => pair.Key, pair => pair.Value);
}
