using Skevin.Core.Dashboards;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Server.Ask;

namespace Skevin.Server.Dashboards;

/// <summary>Metrics and fields one reader has in one cluster, of the last hour where they are of rows.</summary>
public sealed class NamesHere(EnquiryReader reader, RowNames rowNames, DateTimeOffset now) : IKnownNames
{
    private static readonly TimeSpan Back = TimeSpan.FromHours(1);

    /// <inheritdoc/>
    public IReadOnlyList<string> Metrics { get; } = [.. reader.Series.Metrics().Order(StringComparer.Ordinal)];

    /// <inheritdoc/>
    public async Task<IReadOnlyList<string>?> Fields(string source, CancellationToken stop)
    {
        if (Words.RowSources.TryGetValue(source, out var kind))
            return await rowNames(kind, now - Back, now, stop) is { Count: > 0 } fields ? WithLong(fields) : null;
        if (!Metrics.Contains(source) && source != Words.Arrivals)
            return null;
        var series = await reader.Series.Find(source, (now - TimeSpan.FromDays(365)).ToUnixTimeMilliseconds(), now.ToUnixTimeMilliseconds(), stop);
        return series.Count == 0 ? null : WithLong(series.SelectMany(one => one.Key.Labels.Select(label => label.Key)));
    }

    private static string[] WithLong(IEnumerable<string> names) =>
        [.. names.SelectMany(name => new[] { FieldNames.Shortest(name), name, FieldNames.Short.GetValueOrDefault(name, name) }).Distinct().Order(StringComparer.Ordinal)];
}

/// <summary>Fields of the newest rows of a kind.</summary>
public delegate Task<IReadOnlyList<string>> RowNames(RowKind kind, DateTimeOffset from, DateTimeOffset to, CancellationToken stop);
