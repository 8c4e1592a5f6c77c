using System.Globalization;
using Skevin.Core.Query.Language;

namespace Skevin.Core.Alarms;

/// <summary>What is promised of some requests, and what counts as a broken promise.</summary>
/// <param name="Name">What it is about, in words.</param>
/// <param name="Which">Condition over spans that says which are counted, for example <c>service = "ledger" and kind = "server"</c>.</param>
/// <param name="Bad">Condition that says which of them break it, for example <c>status = "error" or duration &gt; 400ms</c>.</param>
/// <param name="Share">Share that must be good, over 0 and under 1.</param>
/// <param name="Days">Over how many days, 1 to 90.</param>
public sealed record Objective(string Name, string Which, string Bad, double Share, int Days);

/// <summary>A rule of an error budget: raised while so much of it burns in a long window, and still does in a short one.</summary>
/// <param name="Spent">Share of the whole budget that is gone when the long window is full of it.</param>
public sealed record BudgetWindow(TimeSpan Long, TimeSpan Short, double Spent, Severity Severity)
{
    /// <summary>How many times as fast as is sustainable the budget must burn: share spent × days ÷ window.</summary>
    public double Burn(int days) => Spent * (TimeSpan.FromDays(days) / Long);
}

/// <summary>How a budget stands.</summary>
/// <param name="Counted">Requests that were counted in the period, as far as there is data.</param>
/// <param name="Bad">Of these, broken promises.</param>
/// <param name="Left">Share of the budget that is left; below 0 where it is overdrawn. NaN where nothing was counted.</param>
/// <param name="Burn">How many times as fast as is sustainable it burned in the last hour; NaN where nothing was counted.</param>
/// <param name="DaysToEmpty">At the pace of the last hour; infinite where nothing burns, 0 where it is empty.</param>
public sealed record BudgetState(double Counted, double Bad, double Left, double Burn, double DaysToEmpty);

/// <summary>
/// Alerting on error budgets by burn rate over a long and a short window. Source: Beyer et al., "The Site Reliability Workbook" (2018), chapter 5, "Multiwindow, Multi-Burn-Rate Alerts",
/// with its recommended windows: 2 % in 1 h, 5 % in 6 h, 10 % in 3 days, each with a short window of a twelfth.
/// </summary>
public static class ErrorBudget
{
    /// <summary>The recommended windows.</summary>
    public static readonly BudgetWindow[] Windows =
    [
        new(TimeSpan.FromHours(1), TimeSpan.FromMinutes(5), 0.02, Severity.Critical),
        new(TimeSpan.FromHours(6), TimeSpan.FromMinutes(30), 0.05, Severity.Major),
        new(TimeSpan.FromDays(3), TimeSpan.FromHours(6), 0.10, Severity.Minor),
    ];

    /// <summary>What is wrong with an objective, or null.</summary>
    public static string? Problem(Objective objective)
    {
        if (string.IsNullOrWhiteSpace(objective.Name) || objective.Name.Length > 120)
            return "An objective has a name of up to 120 characters.";
        if (objective.Share is not (> 0 and < 1))
            return "The share that must be good lies between 0 and 100 %, for example 99.5 %: a promise of 100 % leaves no budget.";
        if (objective.Days is < 1 or > 90)
            return "The period is 1 to 90 days.";
        foreach (var (what, text) in new[] { ("which requests count", Counts(objective, "1m", false)), ("which of them are bad", Counts(objective, "1m", true)) })
            try
            {
                Parser.Read(text);
            }
            catch (EnquiryException wrong)
            {
                return $"The condition that says {what}: {wrong.Error.Message}";
            }
        return null;
    }

    /// <summary>The rules of an objective. Windows longer than its period are left out.</summary>
    public static IReadOnlyList<RuleDocument> Rules(Objective objective, string? cluster, IReadOnlyList<string>? tell) =>
    [
        .. Windows.Where(window => window.Long < TimeSpan.FromDays(objective.Days)).Select(window => new RuleDocument(
            $"{objective.Name}: {Number(window.Spent * 100)} % of the budget of {objective.Days} days in {Units.Write(window.Long)}", BurnRate(objective, window),
            Above: Number(window.Burn(objective.Days)), Severity: window.Severity, Tell: tell, Cluster: cluster)),
    ];

    /// <summary>The enquiry of the burn rate: the lesser of both windows', so that it is over a bound only where both are, and falls soon after the cause is gone.</summary>
    public static string BurnRate(Objective objective, BudgetWindow window)
    {
        // A slot is no wider than the short window; longer windows need no finer one.
        var every = Units.Write(window.Long <= TimeSpan.FromHours(1) ? TimeSpan.FromMinutes(1) : TimeSpan.FromMinutes(5));
        string Part(string name, bool bad, TimeSpan over) => $"{name}: {Counts(objective, every, bad)} -> over {Units.Write(over)} sum";
        return string.Join("\n", Part("bad_long", true, window.Long), Part("all_long", false, window.Long), Part("bad_short", true, window.Short), Part("all_short", false, window.Short),
            $"least(bad_long / all_long, bad_short / all_short) / {Number(1 - objective.Share)}");
    }

    /// <summary>The enquiry that counts requests, or the bad ones among them.</summary>
    public static string Counts(Objective objective, string every, bool bad) =>
        $"spans -> where {(string.IsNullOrWhiteSpace(objective.Which) ? "kind = \"server\"" : objective.Which.Trim())}{(bad ? $" -> where {(string.IsNullOrWhiteSpace(objective.Bad) ? "status = \"error\"" : objective.Bad.Trim())}" : "")} -> count every {every}";

    /// <summary>How a budget stands.</summary>
    /// <param name="objective">The objective.</param>
    /// <param name="all">Requests by hour over the period, the newest last; NaN where there is no data.</param>
    /// <param name="bad">Bad ones of the same hours.</param>
    /// <param name="lastHour">Requests and bad ones of the last hour.</param>
    public static BudgetState State(Objective objective, IReadOnlyList<double> all, IReadOnlyList<double> bad, (double All, double Bad) lastHour)
    {
        static double Total(IEnumerable<double> values) => values.Where(double.IsFinite).Sum();
        var (counted, broken, allowed) = (Total(all), Total(bad), 1 - objective.Share);
        var left = counted > 0 ? 1 - broken / (counted * allowed) : double.NaN;
        var burn = lastHour.All > 0 ? lastHour.Bad / lastHour.All / allowed : double.NaN;
        // At a burn rate of 1 a whole budget lasts the period.
        return new BudgetState(counted, broken, left, burn, !(left > 0) ? 0 : !(burn > 0) ? double.PositiveInfinity : left * objective.Days / burn);
    }

    /// <summary>Share of the budget that was left after each hour.</summary>
    /// <inheritdoc cref="State" path="/param"/>
    public static double[] Course(Objective objective, IReadOnlyList<double> all, IReadOnlyList<double> bad)
    {
        // The budget is that of the whole period's requests, as they are known now.
        var budget = all.Where(double.IsFinite).Sum() * (1 - objective.Share);
        var spent = 0.0;
        return [.. bad.Select((value, i) => double.IsFinite(all[i]) ? 1 - (spent += double.IsFinite(value) ? value : 0) / budget : double.NaN)];
    }

    private static string Number(double value) => Math.Round(value, 9).ToString("0.#########", CultureInfo.InvariantCulture);
}
