namespace Skevin.Core.Arrivals;

/// <summary>How a source is arriving.</summary>
public enum ArrivalState
{
    /// <summary>Not collected.</summary>
    Off,

    /// <summary>Within 60 s of being ready, nothing yet.</summary>
    Starting,

    /// <summary>As it should.</summary>
    OnTime,

    /// <summary>Nothing for 2.5 intervals.</summary>
    Late,

    /// <summary>Under 99 % of the last hour's minutes, or the last read was broken off by an error.</summary>
    Partial,

    /// <summary>The answer to a request was a 4xx.</summary>
    Refused,

    /// <summary>Nothing since the roll-out.</summary>
    Silent,
}

/// <summary>What the store got of a source.</summary>
/// <param name="LastReceived">By the server's clock.</param>
/// <param name="NewestData">Stamp of the newest sample.</param>
/// <param name="Minutes">Minutes since the epoch that have data.</param>
public sealed record SourceRecord(DateTimeOffset LastReceived, DateTimeOffset NewestData, IReadOnlySet<long> Minutes);

/// <summary>A push the server refused.</summary>
/// <param name="At">When last.</param>
/// <param name="Times">How often since the last one accepted.</param>
/// <param name="TokenReplaced">When the token it carried was revoked, where it was one of Skevin's.</param>
public sealed record Refusal(DateTimeOffset At, int Times, DateTimeOffset? TokenReplaced);

/// <summary>All that is known of one source.</summary>
public sealed record SourceEvidence(ExpectedSource Expected, SourceRecord? Record, SourceReport? Report, Refusal? Refusal)
{
    /// <summary>Revision of the plan that expects it, as agents carry it; null where it is not known.</summary>
    public string? PlanRevision { get; init; }

    /// <summary>When it is judged.</summary>
    public DateTimeOffset At { get; init; }

    /// <summary>Whether the agent's last words on it are an error it got as an answer (4xx).</summary>
    public bool ReadRefused => Report?.Error is { } error && error.Length > 3 && error[0] == '4' && char.IsAsciiDigit(error[1]) && error[3] == ' ';
}

/// <summary>A judged source.</summary>
/// <param name="ExpectedMinutes">Minutes of the last hour in which it should have sent.</param>
/// <param name="ReceivedMinutes">Minutes of those that have data.</param>
public sealed record JudgedSource(SourceEvidence Evidence, ArrivalState State, int ExpectedMinutes, int ReceivedMinutes);

/// <summary>Judges sources by what is known of them.</summary>
public static class ArrivalJudgement
{
    /// <summary>How long a source may be silent after it became ready.</summary>
    public static readonly TimeSpan StartingTime = TimeSpan.FromSeconds(60);

    /// <summary>Intervals without anything before a source is late.</summary>
    public const double LateIntervals = 2.5;

    /// <summary>Share of the last hour's minutes below which a source is partial.</summary>
    public const double Complete = 0.99;

    /// <summary>Judges one source at a moment of the server's clock.</summary>
    public static JudgedSource Judge(SourceEvidence evidence, DateTimeOffset now)
    {
        var (expected, received) = Minutes(evidence, now);
        return new JudgedSource(evidence, State(evidence, now, expected, received), expected, received);
    }

    private static ArrivalState State(SourceEvidence evidence, DateTimeOffset now, int expected, int received)
    {
        var (source, record) = (evidence.Expected, evidence.Record);
        // A short interval would flap on one slow request, so nothing is late within 10 s.
        var patience = TimeSpan.FromSeconds(Math.Max(10, LateIntervals * source.IntervalSeconds));
        var flowing = record is not null && now - record.LastReceived <= patience;
        if (!flowing && (evidence.ReadRefused || evidence.Refusal is { } refusal && (record is null || refusal.At > record.LastReceived)))
            return ArrivalState.Refused;
        if (source.Since is not { } since)
            return flowing ? ArrivalState.OnTime : record is null ? ArrivalState.Silent : ArrivalState.Late;
        if (record is null || record.LastReceived < since)
            return now - since < StartingTime ? ArrivalState.Starting : ArrivalState.Silent;
        if (!flowing)
            return ArrivalState.Late;
        // What was read in spite of an error is not all there is.
        return received < Complete * expected || evidence.Report?.Error is not null ? ArrivalState.Partial : ArrivalState.OnTime;
    }

    // The running minute and the one before may still be on their way.
    private static (int Expected, int Received) Minutes(SourceEvidence evidence, DateTimeOffset now)
    {
        if (evidence.Expected.Since is not { } since)
            return (0, 0);
        var last = now.ToUnixTimeSeconds() / 60 - 2;
        var first = Math.Max(last - 59, (since + StartingTime).ToUnixTimeSeconds() / 60 + 1);
        var (expected, received) = (0, 0);
        for (var minute = first; minute <= last; minute++)
        {
            expected++;
            if (evidence.Record?.Minutes.Contains(minute) == true)
                received++;
        }
        return (expected, received);
    }
}
