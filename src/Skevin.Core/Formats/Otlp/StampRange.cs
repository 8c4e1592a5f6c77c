namespace Skevin.Core.Formats.Otlp;

/// <summary>Which stamps are taken: from now − retention to now + 10 min, epoch milliseconds.</summary>
public readonly record struct StampRange(long Oldest, long Newest)
{
    /// <summary>The range at a moment of the server's clock.</summary>
    public static StampRange At(DateTimeOffset now, TimeSpan retention) =>
        new((now - retention).ToUnixTimeMilliseconds(), now.AddMinutes(10).ToUnixTimeMilliseconds());

    /// <summary>Why a stamp is refused, or null where it is taken.</summary>
    public string? Refuses(long milliseconds) => milliseconds < Oldest ? "A stamp is older than the retention."
        : milliseconds > Newest ? "A stamp lies more than 10 min ahead of the server's clock." : null;
}

/// <summary>Counts what was refused, by reason.</summary>
public sealed class Refusals
{
    private readonly SortedDictionary<string, int> _counts = new(StringComparer.Ordinal);

    /// <summary>How many.</summary>
    public int Count => _counts.Values.Sum();

    /// <summary>One sentence a reason, with its count.</summary>
    public string Why => string.Join(" ", _counts.Select(pair => $"{pair.Key} ({pair.Value})"));

    /// <summary>Counts some.</summary>
    public void Add(string why, int count = 1) => _counts[why] = _counts.GetValueOrDefault(why) + count;
}
