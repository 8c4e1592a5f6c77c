using Skevin.Core.Query.Language;

namespace Skevin.Core.Dashboards;

/// <summary>A name a sheet uses that is not known here.</summary>
/// <param name="Source">The metric or the word for rows whose field it is; empty for a metric itself.</param>
/// <param name="Name">The metric or field.</param>
/// <param name="Strips">Titles of the strips that use it.</param>
/// <param name="Nearest">Names known here that may be meant, the likeliest first.</param>
public sealed record ForeignName(string Source, string Name, IReadOnlyList<string> Strips, IReadOnlyList<string> Nearest);

/// <summary>What a name of a sheet is called here.</summary>
/// <param name="Source">As in <see cref="ForeignName"/>; of a field its metric as the sheet named it before.</param>
public sealed record NameBinding(string Source, string Name, string To);

/// <summary>What is known here, to hold a sheet's names against.</summary>
public interface IKnownNames
{
    /// <summary>All metrics.</summary>
    IReadOnlyList<string> Metrics { get; }

    /// <summary>Fields of a metric or of rows, in short and in full; null where the source is not known or nothing of it has arrived.</summary>
    Task<IReadOnlyList<string>?> Fields(string source, CancellationToken stop);
}

/// <summary>Binds the names of a sheet from elsewhere to what is collected here.</summary>
public static class SheetNames
{
    private const int MostNear = 8;

    /// <summary>What stands for a strip where a name is of a choice.</summary>
    public const string Above = "the choices above it";

    /// <summary>The sheet with its names replaced.</summary>
    public static Sheet Bound(Sheet sheet, IReadOnlyList<NameBinding> bindings)
    {
        if (bindings.Count == 0)
            return sheet;
        var to = bindings.ToDictionary(one => (one.Source, one.Name), one => one.To);
        string Metric(string name) => to.GetValueOrDefault(("", name), name);
        Strip Renamed(Strip strip)
        {
            var enquiry = Parser.Read(strip.Text);
            // Behind a formula stand the fields of all its parts.
            var sources = enquiry.Parts.Select(part => Naming.SourceOf(part.Body)).Where(source => source.Length > 0).ToArray();
            string Field(string source, string name) => source.Length > 0 ? to.GetValueOrDefault((source, name), name) : sources.Select(one => to.GetValueOrDefault((one, name))).FirstOrDefault(found => found is not null) ?? name;
            var text = Formatter.Write(Naming.Renamed(enquiry, Metric, Field));
            return text == Formatter.Write(enquiry) ? strip : strip with { Text = text, Kept = null, By = Field("", strip.By) };
        }
        return sheet with
        {
            Strips = [.. sheet.Strips.Select(Renamed)],
            Choices = sheet.Choices?.Select(choice => choice with
            {
                From = choice.From is { } from ? Metric(from) : null,
                Field = to.GetValueOrDefault((choice.From ?? SourceOf(sheet), choice.Field), choice.Field),
            }).ToArray(),
        };
    }

    /// <summary>Names of a sheet that are not known here; of metrics that are not known, the fields are not asked.</summary>
    public static async Task<IReadOnlyList<ForeignName>> Foreign(Sheet sheet, IKnownNames known, CancellationToken stop)
    {
        var used = new Dictionary<(string Source, string Name), List<string>>();
        void Use(string source, string name, string title)
        {
            if (!used.TryGetValue((source, name), out var titles))
                used[(source, name)] = titles = [];
            if (!titles.Contains(title))
                titles.Add(title);
        }
        foreach (var strip in sheet.Strips)
            Naming.Renamed(Parser.Read(strip.Text), metric =>
            {
                Use("", metric, strip.Title);
                return metric;
            }, (source, field) =>
            {
                if (source.Length > 0)
                    Use(source, field, strip.Title);
                return field;
            });
        foreach (var choice in sheet.Choices ?? [])
            if (choice.From is { } rows && !Words.RowSources.ContainsKey(rows))
                Use("", rows, Above);
        foreach (var choice in sheet.Choices ?? [])
            Use(choice.From ?? SourceOf(sheet), choice.Field, Above);
        var foreign = new List<ForeignName>();
        foreach (var ((source, name), titles) in used)
        {
            var candidates = source.Length == 0 ? known.Metrics : await known.Fields(source, stop);
            if (candidates is null || candidates.Contains(name) || source.Length == 0 && name == Words.Arrivals)
                continue;
            foreign.Add(new ForeignName(source, name, titles, [.. Nearest(name, candidates)]));
        }
        return foreign;
    }

    /// <summary>What a choice without a source of its own offers: values of what the first strip begins with.</summary>
    public static string SourceOf(Sheet sheet) => sheet.Strips.Count == 0 ? "" : Parser.Read(sheet.Strips[0].Text).Parts.Select(part => Naming.SourceOf(part.Body)).FirstOrDefault(source => source.Length > 0) ?? "";

    /// <summary>
    /// Names that may mean the same: those that share most of their words (Jaccard's index of the words between dots, dashes and underscores), then those with the fewest letters changed.
    /// </summary>
    public static IEnumerable<string> Nearest(string name, IEnumerable<string> candidates)
    {
        var words = WordsOf(name);
        var typed = EditDistance.Nearest(name, candidates, MostNear).ToArray();
        return candidates.Distinct()
            .Select(candidate => (candidate, shared: WordsOf(candidate) is var own ? (double)own.Intersect(words).Count() / own.Union(words).Count() : 0))
            .Where(pair => pair.shared > 0 || typed.Contains(pair.candidate))
            .OrderByDescending(pair => pair.shared).ThenBy(pair => EditDistance.Between(name, pair.candidate)).ThenBy(pair => pair.candidate, StringComparer.Ordinal)
            .Select(pair => pair.candidate).Take(MostNear);
    }

    private static readonly char[] Between = ['.', '_', '-', ':', '/'];

    // "requests" and "request" are one word.
    private static HashSet<string> WordsOf(string name) => [.. name.ToLowerInvariant().Split(Between, StringSplitOptions.RemoveEmptyEntries).Select(word => word.Length > 3 ? word.TrimEnd('s') : word)];
}
