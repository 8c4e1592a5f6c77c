using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Baselines;
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
            var baseline = rule.Document.Usual is { } usual ? await ReadBaseline.Run(rule, usual, new Window(request.From.ToUnixTimeMilliseconds(), request.To.ToUnixTimeMilliseconds()), ask.ReaderFor(access, request.Cluster), stop) : null;
            return View(request, rule, bounds, baseline, answer, written);
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

    private static ReplayView View(ReplayRequest request, AlarmRule rule, Bounds bounds, SeasonalBaseline? baseline, Answer answer, Incident[] written)
    {
        var width = (long)answer.Every.TotalMilliseconds;
        var raised = baseline is null ? Replay.Over(rule, bounds, answer) : Replay.Over(rule, (labels, end) => baseline.BoundsAt(labels, end, width), answer);
        var (weeks, night) = ((request.To - request.From) / TimeSpan.FromDays(7), TimeSpan.FromMinutes(Math.Clamp(request.UtcOffsetMinutes, -14 * 60, 14 * 60)));
        double Messages(int times, int stillRaised) => (2 * times - stillRaised) / weeks;
        var variants = baseline is not null && rule.Document.Usual is { } usual ? Variants.OfUsual(rule, usual, baseline, answer, written, night).Select(variant =>
            new VariantView(null, null, variant.Bound.ToString("0.##", System.Globalization.CultureInfo.InvariantCulture), Hold(variant.Hold), variant.Bound == usual.Spreads && variant.Hold == rule.Hold,
                variant.Raised, Messages(variant.Raised, 0), variant.Briefly, variant.AtNight, variant.Missed)) : Variants.Table(rule, bounds, answer, written, night).Select(variant =>
        {
            var bound = Units.WriteBound(variant.Bound, answer.Unit);
            return new VariantView(bounds.Above is null ? null : bound, bounds.Below is null ? null : bound, bound, Hold(variant.Hold), variant.Bound == (bounds.Above ?? bounds.Below) && variant.Hold == rule.Hold,
                variant.Raised, Messages(variant.Raised, 0), variant.Briefly, variant.AtNight, variant.Missed);
        });
        var suggested = baseline is not null ? null : Variants.Suggest(rule, bounds, answer, written, night);
        return new ReplayView(
            [.. raised.Select(stretch => new StretchView(stretch.Labels.ToDictionary(pair => pair.Key, pair => pair.Value), DateTimeOffset.FromUnixTimeMilliseconds(stretch.From),
                stretch.To is { } to ? DateTimeOffset.FromUnixTimeMilliseconds(to) : null, double.IsFinite(stretch.Worst) ? stretch.Worst : null))],
            Messages(raised.Count, raised.Count(stretch => stretch.To is null)), Replay.Briefly(raised), raised.Count(stretch => Variants.IsNight(stretch.From, night)), Variants.Missed(raised, written), written.Length,
            answer.Unit, bounds.Above, bounds.Below, [.. variants],
            suggested is null ? null : new SuggestionView(Units.WriteBound(suggested.Bound, answer.Unit), Hold(suggested.Hold), suggested.Why),
            AskEndpoints.View(rule.Enquiry, Replay.Thinned(answer, DrawnSlots, bounds.Below is null)), baseline is null ? null : Usual(answer, baseline));
    }

    // Hour by hour, as it is known; of the first series, since more would hide each other.
    private static UsualView Usual(Answer answer, SeasonalBaseline baseline)
    {
        const long Hour = 3_600_000;
        var width = (long)answer.Every.TotalMilliseconds;
        var drawn = answer.Series.Take(1).SelectMany(series => Enumerable.Range(0, series.Values.Length).Select(i => answer.FirstEnd + i * width).GroupBy(end => (end - width) / Hour).Select(hour => (At: (hour.Key + 1) * Hour, Bounds: baseline.BoundsAt(series.Labels, hour.First(), width)))).ToArray();
        return new UsualView(
            [.. drawn.Select(hour => new UsualHour(DateTimeOffset.FromUnixTimeMilliseconds(hour.At), hour.Bounds?.Below, hour.Bounds?.Above))],
            answer.Series.Count(series => series.Values.Length > 0 && baseline.At(series.Labels, answer.FirstEnd + (series.Values.Length - 1) * width, width) is not null));
    }
}
