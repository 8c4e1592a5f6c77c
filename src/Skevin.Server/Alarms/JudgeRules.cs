using System.Text.Json;
using System.Text.Json.Serialization;
using Microsoft.EntityFrameworkCore;
using Skevin.Core.Access;
using Skevin.Core.Alarms;
using Skevin.Core.Alarms.Baselines;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Core.Series;
using Skevin.Server.Access;
using Skevin.Server.Ask;
using Skevin.Server.Live;
using Skevin.Storage;

namespace Skevin.Server.Alarms;

/// <summary>Judges the slots of one rule that have come due, each once, and records verdicts, transitions and messages together.</summary>
public sealed class JudgeRules(IDbContextFactory<SkevinContext> contexts, AskEnquiry ask, Telling.TellOfChange tell, LiveFeed feed, TimeProvider clock)
{
    // After a standstill the slots missed are still judged, up to this long ago; earlier ones are left to replay.
    private static readonly TimeSpan Longest = TimeSpan.FromHours(2);

    internal static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { Converters = { new JsonStringEnumConverter(JsonNamingPolicy.CamelCase) }, NumberHandling = JsonNumberHandling.AllowNamedFloatingPointLiterals };

    // Rules that are kept together: one round trip for many, and few to do again where one cannot be kept.
    private const int Together = 100;

    private readonly Dictionary<Guid, (string Document, AlarmRule? Rule, string? Mistakes)> _read = [];

    // Of one round, by the owner, whose scope holds, and the cluster.
    private readonly Dictionary<(string Owner, string Cluster), EnquiryReader> _readers = [];

    private readonly Dictionary<Guid, (AlarmRule Rule, Window Hours, SeasonalBaseline Baseline)> _baselines = [];

    private sealed record InForce(Guid Id, string Cluster, string OwnerId, long JudgedTo, string Document);

    /// <summary>Judges all rules in force whose next slot is due.</summary>
    public async Task Run(CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var rules = await context.AlarmRules.AsNoTracking().Where(rule => rule.InForce)
            .Join(context.Clusters, rule => rule.ClusterId, cluster => cluster.Id, (rule, cluster) => new InForce(rule.Id, cluster.Name, rule.OwnerId, rule.JudgedTo, rule.Document)).ToListAsync(stop);
        foreach (var gone in _read.Keys.Except(rules.Select(rule => rule.Id)).ToArray())
        {
            _read.Remove(gone);
            _baselines.Remove(gone);
        }
        var due = rules.Where(rule => Read(rule) is not { Rule: { } read } || Due(read).To > Due(read, rule.JudgedTo)).ToArray();
        if (due.Length == 0)
            return;
        var directory = await Telling.Directory.Load(context, stop);
        var owners = (await context.Users.AsNoTracking().ToListAsync(stop)).ToDictionary(person => person.Id);
        _readers.Clear();
        foreach (var chunk in due.Chunk(Together))
            try
            {
                await Judge(chunk, owners, directory, stop);
            }
            catch (DbUpdateException) when (chunk.Length > 1)
            {
                // One of them was changed or removed meanwhile; it must not hold up the others.
                foreach (var rule in chunk)
                    await Judge([rule], owners, directory, stop);
            }
    }

    private EnquiryReader ReaderFor(Person owner, string cluster)
    {
        if (!_readers.TryGetValue((owner.Id, cluster), out var reader))
        {
            reader = ask.ReaderFor(PersonClaims.ScopeOf(owner), cluster);
            _readers[(owner.Id, cluster)] = reader = reader with { Series = new RoundReader(reader.Series) };
        }
        return reader;
    }

    // What is usual in an hour is asked once: the weeks before do not change any more, but for what comes late.
    private async Task<SeasonalBaseline> Baseline(Guid id, AlarmRule rule, UsualDocument usual, Window window, EnquiryReader reader, CancellationToken stop)
    {
        var hours = ReadBaseline.Hours(window);
        if (!_baselines.TryGetValue(id, out var known) || known.Hours != hours || known.Rule != rule)
            _baselines[id] = known = (rule, hours, await ReadBaseline.Run(rule, usual, window, reader, stop));
        return known.Baseline;
    }

    private static Labels Of(string labels) => Labels.From(JsonSerializer.Deserialize<Dictionary<string, string>>(labels, Json)!);

    private (AlarmRule? Rule, string? Mistakes) Read(InForce rule)
    {
        if (!_read.TryGetValue(rule.Id, out var read) || read.Document != rule.Document)
        {
            var parsed = AlarmRule.Read(JsonSerializer.Deserialize<RuleDocument>(rule.Document, Json)!, out var mistakes);
            _read[rule.Id] = read = (rule.Document, parsed, parsed is null ? string.Join(" ", mistakes.Select(mistake => mistake.Message)) : null);
        }
        return (read.Rule, read.Mistakes);
    }

    private (long Width, long To) Due(AlarmRule rule) => ((long)rule.Every.TotalMilliseconds, (clock.GetUtcNow() - rule.Wait).ToUnixTimeMilliseconds() / (long)rule.Every.TotalMilliseconds * (long)rule.Every.TotalMilliseconds);

    // A rule is saved at any moment; the first slot judged is the first that ends after it.
    private long Due(AlarmRule rule, long judgedTo) => Math.Max(judgedTo, (clock.GetUtcNow() - Longest).ToUnixTimeMilliseconds()) / (long)rule.Every.TotalMilliseconds * (long)rule.Every.TotalMilliseconds;

    private async Task Judge(InForce[] rules, Dictionary<string, Person> owners, Telling.Directory directory, CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var ids = rules.Select(rule => rule.Id).ToArray();
        var rows = await context.AlarmRules.Where(rule => ids.Contains(rule.Id) && rule.InForce).ToDictionaryAsync(rule => rule.Id, stop);
        var alarms = (await context.Alarms.Where(alarm => ids.Contains(alarm.RuleId)).ToListAsync(stop)).ToLookup(alarm => alarm.RuleId);
        var changed = new HashSet<string>();
        foreach (var rule in rules)
            // Where its wording was changed meanwhile, the next look judges it.
            if (rows.TryGetValue(rule.Id, out var row) && row.Document == rule.Document && await One(context, row, rule.Cluster, Read(rule), owners.GetValueOrDefault(row.OwnerId), alarms[rule.Id].ToDictionary(alarm => alarm.Labels), directory, stop))
                changed.Add(rule.Cluster);
        await context.SaveChangesAsync(stop);
        foreach (var cluster in changed)
            feed.Tell("alarms", cluster);
    }

    // Whether there is something to see of it.
    private async Task<bool> One(
        SkevinContext context, AlarmRuleRow row, string cluster, (AlarmRule? Rule, string? Mistakes) read, Person? owner, Dictionary<string, AlarmRow> alarms, Telling.Directory directory, CancellationToken stop)
    {
        if (read.Rule is not { } rule)
            return Trouble(row, read.Mistakes!);
        var document = rule.Document;
        var (width, due) = Due(rule);
        var from = Due(rule, row.JudgedTo);
        if (due <= from)
            return false;
        if (owner is null)
            return Trouble(row, "The rule's owner is gone, so it has no access scope. Put it in force again under your own name.");
        Answer answer;
        try
        {
            answer = await EnquiryRunner.Run(rule.Enquiry, null, new Window(from, due), ReaderFor(owner, cluster), new Limits(), stop, rule.Every);
        }
        catch (Exception wrong) when (wrong is EnquiryException or LimitException)
        {
            return Trouble(row, wrong.Message);
        }
        if (rule.BoundsIn(answer.Unit, out var error) is not { } fixedBounds)
            return Trouble(row, error!);
        var baseline = document.Usual is { } usual ? await Baseline(row.Id, rule, usual, new Window(from, due), ReaderFor(owner, cluster), stop) : null;

        var values = answer.Series.ToDictionary(series => LabelsJson(series.Labels), series => series.Values);
        var told = false;
        for (var slot = 0; slot < (int)((due - from) / width); slot++)
        {
            var end = from + (slot + 1) * width;
            var verdicts = new List<object>();
            // A series that vanished has no values: its alarm is judged by what missing data means.
            foreach (var labels in values.Keys.Union(alarms.Keys).Order(StringComparer.Ordinal))
            {
                var value = values.TryGetValue(labels, out var own) && SlotOf(answer, end) is var at && at >= 0 && at < own.Length ? own[at] : double.NaN;
                var alarm = alarms.GetValueOrDefault(labels);
                var before = alarm is null ? AlarmStatus.Quiet : new AlarmStatus(alarm.State, alarm.Since, alarm.RaisedAt, alarm.Worst ?? double.NaN);
                // What nothing is known of yet is neither usual nor unusual.
                var bounds = baseline is null ? fixedBounds : baseline.BoundsAt(Of(labels), end, width);
                var (after, transition) = bounds is null ? (before, AlarmTransition.None) : AlarmMachine.Judge(before, value, end, width, rule, bounds);
                verdicts.Add(new { labels, value = double.IsFinite(value) ? value : (double?)null, state = after.State, above = baseline is null ? null : bounds?.Above, below = baseline is null ? null : bounds?.Below });
                alarm = Keep(context, alarms, alarm, row, document, labels, answer.Unit, after, value);
                if (transition != AlarmTransition.None && alarm is not null)
                {
                    await tell.Run(context, row, document, alarm, cluster, transition, end, value, before, directory, stop);
                    told = true;
                }
                if (alarm is { State: AlarmState.Quiet })
                {
                    alarms.Remove(labels);
                    context.Alarms.Remove(alarm);
                }
            }
            context.RuleVerdicts.Add(new RuleVerdictRow { RuleId = row.Id, SlotEnd = end, JudgedAt = clock.GetUtcNow(), Verdicts = JsonSerializer.Serialize(verdicts, Json) });
        }
        row.JudgedTo = due;
        row.Trouble = null;
        return told || alarms.Count > 0;
    }

    private static int SlotOf(Answer answer, long end) => (int)((end - answer.FirstEnd) / (long)answer.Every.TotalMilliseconds);

    private static AlarmRow? Keep(
        SkevinContext context, Dictionary<string, AlarmRow> alarms, AlarmRow? alarm, AlarmRuleRow rule, RuleDocument document, string labels, string unit,
        AlarmStatus after, double value)
    {
        if (alarm is null)
        {
            if (after.State == AlarmState.Quiet)
                return null;
            alarm = new AlarmRow { Id = Guid.CreateVersion7(), RuleId = rule.Id, ClusterId = rule.ClusterId, Labels = labels, Unit = unit };
            alarms[labels] = alarm;
            context.Alarms.Add(alarm);
        }
        (alarm.State, alarm.Since, alarm.RaisedAt) = (after.State, after.Since, after.RaisedAt);
        alarm.Worst = double.IsFinite(after.Worst) ? after.Worst : null;
        alarm.Value = double.IsFinite(value) ? value : alarm.Value;
        alarm.Severity = document.Severity;
        return alarm;
    }

    // Whether it is news.
    private static bool Trouble(AlarmRuleRow row, string text)
    {
        var news = row.Trouble != text;
        row.Trouble = text;
        return news;
    }

    /// <summary>Labels as JSON, sorted by name: the same labels are the same text.</summary>
    public static string LabelsJson(Labels labels) => JsonSerializer.Serialize(labels.ToDictionary(pair => pair.Key, pair => pair.Value), Json);
}
