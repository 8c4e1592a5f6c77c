using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Server.Ask;
using Skevin.Server.Setup;

namespace Skevin.Server.Alarms;

/// <summary>Says what a rule would have done over history, and what others in its place would have.</summary>
public sealed class ReplayRule(AskEnquiry ask, IncidentBook incidents)
{
    private const int DrawnSlots = 800;

    // Two weeks of slots of 15 s.
    private static readonly Limits History = new(Slots: 90_000);

    /// <summary>Does it.</summary>
    public async Task<Outcome<ReplayView>> Run(ReplayRequest request, AccessScope access, CancellationToken stop)
    {
        if (request.To <= request.From)
            return new Problem(400, "The window is empty.", "'to' must be later than 'from'.");
        if (AlarmRule.Read(request.Rule, out var mistakes) is not { } rule)
            return new Problem(400, "The rule has mistakes.", string.Join(" ", mistakes.Select(mistake => mistake.Message)), mistakes);
        try
        {
            var answer = await EnquiryRunner.Run(rule.Enquiry, null, new Window(request.From.ToUnixTimeMilliseconds(), request.To.ToUnixTimeMilliseconds()), ask.ReaderFor(access, request.Cluster), History, stop, rule.Every);
            if (rule.BoundsIn(answer.Unit, out var error) is not { } bounds)
                return new Problem(400, "A bound does not fit.", error!, new[] { new RuleMistake("above", error!) });
            var written = (await incidents.Read(request.Cluster, request.From, request.To, access, stop)).Select(one => new Incident(one.Id, one.Title, one.From, one.To)).ToArray();
            return View(request, rule, bounds, answer, written);
        }
        catch (EnquiryException wrong)
        {
            return new Problem(400, "The enquiry cannot be read.", wrong.Message, new[] { new RuleMistake("when", $"Line {wrong.Error.Line}, column {wrong.Error.Column}: {wrong.Message}") });
        }
        catch (LimitException limit)
        {
            return new Problem(422, "The enquiry is too large.", limit.Message);
        }
    }

    private static string Hold(TimeSpan hold) => hold == TimeSpan.Zero ? "0" : Units.Write(hold);

    private static ReplayView View(ReplayRequest request, AlarmRule rule, Bounds bounds, Answer answer, Incident[] written)
    {
        var raised = Replay.Over(rule, bounds, answer);
        var (weeks, night) = ((request.To - request.From) / TimeSpan.FromDays(7), TimeSpan.FromMinutes(Math.Clamp(request.UtcOffsetMinutes, -14 * 60, 14 * 60)));
        double Messages(int times, int stillRaised) => (2 * times - stillRaised) / weeks;
        var variants = Variants.Table(rule, bounds, answer, written, night).Select(variant =>
        {
            var bound = Units.WriteBound(variant.Bound, answer.Unit);
            return new VariantView(bounds.Above is null ? null : bound, bounds.Below is null ? null : bound, bound, Hold(variant.Hold), variant.Bound == (bounds.Above ?? bounds.Below) && variant.Hold == rule.Hold,
                variant.Raised, Messages(variant.Raised, 0), variant.Briefly, variant.AtNight, variant.Missed);
        });
        var suggested = Variants.Suggest(rule, bounds, answer, written, night);
        return new ReplayView(
            [.. raised.Select(stretch => new StretchView(stretch.Labels.ToDictionary(pair => pair.Key, pair => pair.Value), DateTimeOffset.FromUnixTimeMilliseconds(stretch.From),
                stretch.To is { } to ? DateTimeOffset.FromUnixTimeMilliseconds(to) : null, double.IsFinite(stretch.Worst) ? stretch.Worst : null))],
            Messages(raised.Count, raised.Count(stretch => stretch.To is null)), Replay.Briefly(raised), raised.Count(stretch => Variants.IsNight(stretch.From, night)), Variants.Missed(raised, written), written.Length,
            answer.Unit, bounds.Above, bounds.Below, [.. variants],
            suggested is null ? null : new SuggestionView(Units.WriteBound(suggested.Bound, answer.Unit), Hold(suggested.Hold), suggested.Why),
            AskEndpoints.View(rule.Enquiry, Replay.Thinned(answer, DrawnSlots, bounds.Below is null)));
    }
}
