using System.Globalization;
using System.Security.Claims;
using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.Http.HttpResults;
using Skevin.Core.Access;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Server.Access;
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
    public static void AddAsk(this IServiceCollection services) => services.AddSingleton<AskEnquiry>().AddSingleton<ShowTrace>();

    /// <summary>Maps its endpoints.</summary>
    public static void MapAsk(this IEndpointRouteBuilder routes)
    {
        routes.MapPost("/api/ask", async (AskRequest body, ClaimsPrincipal user, HttpContext context, AskEnquiry ask, CancellationToken stop) =>
        {
            var outcome = await ask.Run(body, user.Scope(), stop);
            if (outcome.Problem is { } problem)
                return (IResult)problem.Http();
            var (enquiry, answer) = outcome.Value;
            var accept = context.Request.Headers.Accept.ToString();
            return accept.Contains("text/csv") ? Results.Text(Csv(answer), "text/csv; charset=utf-8")
                : accept.Contains("application/x-ndjson") ? Results.Text(Lines(answer), "application/x-ndjson")
                : TypedResults.Ok(View(enquiry, answer, body.Page));
        }).Produces<AskAnswer>().ProducesProblem(400).Needs(Roles.Reader);
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
    public static AskAnswer View(Enquiry enquiry, Answer answer, AskPage? page = null)
    {
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
            [.. answer.Steps.Select(step => new StepView(step.Text, step.Left, step.Scope))],
            [.. answer.Notes.Select(note => new NoteView(note.Step, note.Kind, note.Text, note.Cure, note.Gap is { } gap
                ? new GapView(Map(gap.Labels), DateTimeOffset.FromUnixTimeMilliseconds(gap.From), DateTimeOffset.FromUnixTimeMilliseconds(gap.To), gap.Rise)
                : null))],
            Formatter.Write(enquiry), answer.Rows?.View, answer.Rows?.Rows.Count);
    }

    private static Dictionary<string, string> Map(Labels labels) => labels.ToDictionary(pair => pair.Key, pair => pair.Value);

    // RFC 4180: one row a series and slot, the labels in columns.
    private static string Csv(Answer answer)
    {
        if (answer.Rows is { } table)
        {
            var lines = new StringBuilder();
            lines.AppendJoin(',', table.Columns.Select(column => Quoted(column.Name))).Append("\r\n");
            foreach (var row in table.Rows)
                lines.AppendJoin(',', row.Select((value, i) => Quoted(Plain(value, table.Columns[i].Unit)))).Append("\r\n");
            return lines.ToString();
        }
        var names = answer.Series.SelectMany(series => series.Labels.Select(pair => pair.Key)).Distinct().Order(StringComparer.Ordinal).ToArray();
        var text = new StringBuilder();
        text.AppendJoin(',', names.Prepend("time").Append("value").Select(Quoted)).Append("\r\n");
        foreach (var series in answer.Series)
            for (var i = 0; i < series.Values.Length; i++)
                text.AppendJoin(',', names.Select(name => Quoted(series.Labels[name] ?? "")).Prepend(Time(answer, i))
                    .Append(double.IsFinite(series.Values[i]) ? series.Values[i].ToString("R", CultureInfo.InvariantCulture) : "")).Append("\r\n");
        return text.ToString();
    }

    private static string Lines(Answer answer)
    {
        var text = new StringBuilder();
        if (answer.Rows is { } table)
        {
            foreach (var row in table.Rows)
                text.Append(JsonSerializer.Serialize(row.Select((value, i) => (table.Columns[i], value)).Where(pair => pair.value is not null)
                    .ToDictionary(pair => pair.Item1.Name, pair => pair.Item1.Unit == "time" ? Plain(pair.value, "time") : pair.value), JsonSerializerOptions.Web)).Append('\n');
            return text.ToString();
        }
        foreach (var series in answer.Series)
            for (var i = 0; i < series.Values.Length; i++)
                text.Append(JsonSerializer.Serialize(new { time = Time(answer, i), labels = Map(series.Labels), value = double.IsFinite(series.Values[i]) ? series.Values[i] : (double?)null }, JsonSerializerOptions.Web)).Append('\n');
        return text.ToString();
    }

    private static string Plain(object? value, string unit) => value switch
    {
        null => "",
        double moment when unit == "time" => DateTimeOffset.FromUnixTimeMilliseconds((long)moment).UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ss.fffZ", CultureInfo.InvariantCulture),
        double number => number.ToString("R", CultureInfo.InvariantCulture),
        _ => value.ToString() ?? "",
    };

    private static string Time(Answer answer, int slot) =>
        DateTimeOffset.FromUnixTimeMilliseconds(answer.FirstEnd + slot * (long)answer.Every.TotalMilliseconds).UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture);

    private static string Quoted(string text) => text.AsSpan().IndexOfAny(",\"\r\n") < 0 ? text : "\"" + text.Replace("\"", "\"\"") + "\"";
}
