using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Server.Ask;
using Skevin.Server.Setup;

namespace Skevin.Server.Alarms;

/// <summary>An objective to look at.</summary>
public sealed record BudgetRequest(Objective Objective, string Cluster, IReadOnlyList<string>? Tell = null);

/// <summary>How an error budget stands, and the rules that would guard it.</summary>
/// <param name="Left">Share of the budget that is left; null where nothing was counted.</param>
/// <param name="Burn">Times as fast as is sustainable, over the last hour; null where nothing was counted.</param>
/// <param name="DaysToEmpty">At that pace; null where it does not burn.</param>
/// <param name="Course">Epoch milliseconds and share left after each hour.</param>
/// <param name="Since">From when on there is data.</param>
public sealed record BudgetView(double Counted, double Bad, double? Left, double? Burn, double? DaysToEmpty, IReadOnlyList<IReadOnlyList<double?>> Course, DateTimeOffset? Since, IReadOnlyList<RuleDocument> Rules);

/// <summary>Reckons an error budget from what is stored, in a reader's scope.</summary>
public sealed class ShowBudget(AskEnquiry ask, TimeProvider clock)
{
    private const long Hour = 3_600_000;

    /// <summary>Reckons it.</summary>
    public async Task<Outcome<BudgetView>> Run(BudgetRequest request, AccessScope access, CancellationToken stop)
    {
        var objective = request.Objective;
        if (ErrorBudget.Problem(objective) is { } problem)
            return new Problem(400, "The objective cannot be reckoned with.", problem);
        var now = clock.GetUtcNow().ToUnixTimeMilliseconds();
        async Task<Answer> Ask(bool bad, string every, long from) => await EnquiryRunner.Run(Parser.Read(ErrorBudget.Counts(objective, every, bad)), null, new Window(from, now), ask.ReaderFor(access, request.Cluster), new Limits(), stop);
        static double[] Values(Answer answer) => answer.Series.Count == 0 ? [] : answer.Series[0].Values;
        static double Total(Answer answer) => Values(answer).Where(double.IsFinite).Sum();
        try
        {
            var from = now - objective.Days * 24 * Hour;
            var (all, bad) = (await Ask(false, "1h", from), await Ask(true, "1h", from));
            var (asked, broken) = (Values(all), Values(bad));
            // Hours in which nothing was bad may have no series at all.
            Array.Resize(ref broken, asked.Length);
            var state = ErrorBudget.State(objective, asked, broken, (Total(await Ask(false, "1m", now - Hour)), Total(await Ask(true, "1m", now - Hour))));
            double? Finite(double value) => double.IsFinite(value) ? value : null;
            double At(int i) => all.FirstEnd + i * Hour;
            var first = Array.FindIndex(asked, value => value > 0);
            return new BudgetView(state.Counted, state.Bad, Finite(state.Left), Finite(state.Burn), Finite(state.DaysToEmpty),
                [.. ErrorBudget.Course(objective, asked, broken).Select((left, i) => (IReadOnlyList<double?>)[At(i), Finite(left)])],
                first < 0 ? null : DateTimeOffset.FromUnixTimeMilliseconds((long)At(first) - Hour), ErrorBudget.Rules(objective, request.Cluster, request.Tell));
        }
        catch (EnquiryException wrong)
        {
            return new Problem(400, "The objective cannot be reckoned with.", wrong.Message);
        }
        catch (LimitException limit)
        {
            return new Problem(422, "Too many spans are counted.", limit.Message);
        }
    }
}
