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
            var (lately, latelyBad) = (await Ask(false, "1m", now - Hour), await Ask(true, "1m", now - Hour));
            // Slots are whole hours; the running one is counted by its minutes.
            var running = now / Hour * Hour;
            double Running(Answer answer) => Values(answer).Where((value, i) => double.IsFinite(value) && answer.FirstEnd + i * 60_000L > running).Sum();
            var hours = (int)Math.Max(0, (running - all.FirstEnd) / Hour + 1);
            double[] WithRunning(Answer answer, Answer minutes)
            {
                // Hours in which nothing was counted may have no series at all.
                var values = Values(answer);
                Array.Resize(ref values, hours);
                return [.. values, Running(minutes)];
            }
            var (asked, broken) = (WithRunning(all, lately), WithRunning(bad, latelyBad));
            var state = ErrorBudget.State(objective, asked, broken, (Total(lately), Total(latelyBad)));
            double? Finite(double value) => double.IsFinite(value) ? value : null;
            double At(int i) => i < hours ? all.FirstEnd + (long)i * Hour : now;
            var first = Array.FindIndex(asked, value => value > 0);
            return new BudgetView(state.Counted, state.Bad, Finite(state.Left), Finite(state.Burn), Finite(state.DaysToEmpty),
                [.. ErrorBudget.Course(objective, asked, broken).Select((left, i) => (IReadOnlyList<double?>)[At(i), Finite(left)])],
                first < 0 ? null : DateTimeOffset.FromUnixTimeMilliseconds(first < hours ? (long)At(first) - Hour : running), ErrorBudget.Rules(objective, request.Cluster, request.Tell));
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
