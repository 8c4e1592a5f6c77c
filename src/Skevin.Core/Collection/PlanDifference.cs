using Skevin.Core.Arrivals;
using Skevin.Core.Clusters;

namespace Skevin.Core.Collection;

/// <summary>What a plan changes against another.</summary>
/// <param name="Changes">Each setting that differs, in words: what it was and what it becomes.</param>
/// <param name="Consequences">What follows: sources that begin or end, data that becomes more or less, rights that are asked for or given up.</param>
public sealed record PlanDifference(IReadOnlyList<string> Changes, IReadOnlyList<string> Consequences)
{
    /// <summary>Compares two plans for a cluster as it is now.</summary>
    /// <param name="before">The plan in force; null where nothing is collected yet.</param>
    /// <param name="after">The plan that is to be.</param>
    /// <param name="inventory">The cluster.</param>
    public static PlanDifference Between(CollectionPlan? before, CollectionPlan after, Inventory inventory)
    {
        var none = new CollectionPlan(null);
        var old = before ?? none;
        return new([.. Settings(old, after)], [.. Sources(old, after, inventory).Concat(Amounts(old, after)).Concat(Rights(old, after))]);
    }

    private static IEnumerable<string> Settings(CollectionPlan old, CollectionPlan after)
    {
        var (m0, m1) = (old.Metrics ?? new MetricsPlan(false, false, false), after.Metrics ?? new MetricsPlan(false, false, false));
        var (l0, l1) = (old.Logs ?? new LogsPlan(false, false), after.Logs ?? new LogsPlan(false, false));
        foreach (var (what, was, becomes) in new[]
        {
            ("Nodes, pods and containers", m0.ResourceUsage, m1.ResourceUsage), ("Kernels of the nodes", m0.HostMetrics, m1.HostMetrics), ("Text pages of the runtimes", m0.RuntimePath is not null, m1.RuntimePath is not null), ("State of the cluster", m0.ClusterState, m1.ClusterState),
            ("Application endpoints", m0.Endpoints, m1.Endpoints), ("Lines of containers", l0.Containers, l1.Containers), ("Cluster events", l0.Events, l1.Events), ("Syslog of machines", l0.Syslog, l1.Syslog), ("Stack traces as one line", l0.Joined, l1.Joined),
            ("Spans", old.Traces is not null, after.Traces is not null), ("Flows", old.Flows is not null, after.Flows is not null),
        })
            if (was != becomes)
                yield return $"{what}: {(becomes ? "on" : "off")}";
        if (old.Metrics is not null && after.Metrics is not null)
        {
            if (m0.EverySeconds != m1.EverySeconds)
                yield return $"Metrics: every {m0.EverySeconds} s → every {m1.EverySeconds} s";
            if (m0.RuntimePath is { } path0 && m1.RuntimePath is { } path1 && path0 != path1)
                yield return $"Text pages of the runtimes: {path0} → {path1}";
            if (m0.Closely != m1.Closely)
                yield return m1.Closely is { } closely ? $"Metrics: every {closely.EverySeconds} s until {closely.Until.UtcDateTime:yyyy-MM-dd HH:mm} UTC, then every {m1.EverySeconds} s" : "Metrics: no close look any more";
            if (m1.Endpoints && (m0.EndpointPort, m0.EndpointPath) != (m1.EndpointPort, m1.EndpointPath))
                yield return $"Application endpoints: port {m0.EndpointPort}, path {m0.EndpointPath} → port {m1.EndpointPort}, path {m1.EndpointPath}";
        }
        var (rules, ruled) = (RulesOf(old), RulesOf(after));
        foreach (var rule in ruled.Except(rules))
            yield return "From now on: " + rule;
        foreach (var rule in rules.Except(ruled))
            yield return "No longer: " + rule;
        foreach (var (what, was, becomes) in new[]
        {
            ("Application endpoints", m0.Endpoints && m1.Endpoints ? m0.Namespaces : m1.Namespaces, m1.Namespaces), ("Lines of containers", l0.Containers && l1.Containers ? l0.Namespaces : l1.Namespaces, l1.Namespaces),
            ("Spans", old.Traces is not null ? old.Traces.Namespaces : after.Traces?.Namespaces, after.Traces is not null ? after.Traces.Namespaces : old.Traces?.Namespaces),
        })
            if (Names(was) != Names(becomes))
                yield return $"{what}: from {Names(was)} → from {Names(becomes)}";
        foreach (var (what, was, becomes) in new[] { ("Application endpoints", m0.Only, m1.Only), ("Lines of containers", l0.Only, l1.Only), ("Spans", old.Traces?.Only, after.Traces?.Only) })
            if ((was?.Words ?? "") != (becomes?.Words ?? ""))
                yield return $"{what}: {(was?.Words is { Length: > 0 } before ? "only " + before : "all their pods")} → {(becomes?.Words is { Length: > 0 } then ? "only " + then : "all their pods")}";
        if (old.Traces is { } t0 && after.Traces is { } t1 && t0.Share != t1.Share)
            yield return $"Traces kept: {Share(t0.Share)} → {Share(t1.Share)}";
        if (old.Traces is not null && after.Traces is not null && old.Traces.Tail != after.Traces.Tail)
            yield return $"Whole traces: {Tail(old.Traces.Tail)} → {Tail(after.Traces.Tail)}";
        var (d0, d1) = ((old.Destinations ?? []).ToDictionary(to => to.Name), (after.Destinations ?? []).ToDictionary(to => to.Name));
        foreach (var to in d1.Values.Where(to => !d0.TryGetValue(to.Name, out var was) || Words(was) != Words(to)))
            yield return $"Also sent to {to.Name}: {Words(to)}";
        foreach (var to in d0.Values.Where(to => !d1.ContainsKey(to.Name)))
            yield return $"No longer sent to {to.Name}";
        if (old.Flows is { } f0 && after.Flows is { } f1 && !(f0.Outside ?? []).SequenceEqual(f1.Outside ?? []))
            yield return $"Names outside: {(f0.Outside ?? []).Count} → {(f1.Outside ?? []).Count}";
    }

    private static string[] RulesOf(CollectionPlan plan) => [.. (plan.Metrics?.Rules ?? []).Select(rule => rule.Words), .. (plan.Logs?.LeftOut ?? []).Select(rule => rule.Words)];

    private static IEnumerable<string> Sources(CollectionPlan old, CollectionPlan after, Inventory inventory)
    {
        var (was, becomes) = (ExpectedSources.Of(old, inventory), ExpectedSources.Of(after, inventory));
        foreach (var signal in new[] { "metrics", "logs", "traces", "flows" })
        {
            var (before, behind) = (was.Where(source => source.Signal == signal).Select(source => source.Name).ToHashSet(), becomes.Where(source => source.Signal == signal).Select(source => source.Name).ToHashSet());
            var (begin, end) = (behind.Except(before).Count(), before.Except(behind).Count());
            if (begin > 0)
                yield return $"{begin} {(begin == 1 ? "source" : "sources")} of {signal} {(begin == 1 ? "begins" : "begin")} to be expected.";
            if (end > 0)
                yield return $"{end} {(end == 1 ? "source" : "sources")} of {signal} {(end == 1 ? "ends" : "end")}: what rules and sheets ask of {(end == 1 ? "it" : "them")} stays empty from then on.";
        }
    }

    private static IEnumerable<string> Amounts(CollectionPlan old, CollectionPlan after)
    {
        if (RulesOf(after).Except(RulesOf(old)).Any())
            yield return "What is left out from now on cannot be asked for later; what is stored stays.";
        if (old.Metrics is { Any: true } m0 && after.Metrics is { Any: true } m1 && m0.EverySeconds != m1.EverySeconds)
            yield return $"{Times((double)m0.EverySeconds / m1.EverySeconds)} the samples of metrics{(m1.EverySeconds > m0.EverySeconds ? $"; slots narrower than {m1.EverySeconds} s are not answered any more" : "")}.";
        if (after.Metrics is { Closely: { } look } m2 && look != old.Metrics?.Closely)
            yield return $"{Times((double)m2.EverySeconds / look.EverySeconds)} the samples of metrics while the close look lasts; the agents go back by themselves.";
        if (old.Traces is { } t0 && after.Traces is { } t1 && t0.Share != t1.Share)
            yield return $"{Times(t1.Share / t0.Share)} the spans{(t1.Tail is null ? "" : " of traces that are not kept for what they are")}; counts stay right, because each kept one says how many it stands for.";
        if (old.Traces?.Tail is null && after.Traces?.Tail is { } tail)
            yield return $"Spans pass through one collector and come {tail.WaitSeconds:0.#} s later; while it is away they wait on the nodes.";
        if (old.Traces?.Tail is not null && after.Traces is { Tail: null })
            yield return "The collector of whole traces goes; what it holds it sends on.";
        foreach (var destination in (after.Destinations ?? []).Where(to => to.Url.StartsWith("http:", StringComparison.Ordinal) && (old.Destinations ?? []).All(was => was.Url != to.Url)))
            yield return $"What goes to {destination.Name} is not encrypted on its way.";
    }

    private static IEnumerable<string> Rights(CollectionPlan old, CollectionPlan after)
    {
        static HashSet<string> Asked(CollectionPlan plan) =>
        [
            .. Permissions.For(plan).SelectMany(right => right.Resources.SelectMany(resource => right.Verbs.Select(verb => $"{verb} {resource}"))), .. Permissions.OnNodes(plan).Select(access => access.What),
        ];
        var (was, becomes) = (Asked(old), Asked(after));
        if (becomes.Except(was).Order().ToArray() is { Length: > 0 } more)
            yield return $"The agents may more: {string.Join(", ", more)}.";
        if (was.Except(becomes).Order().ToArray() is { Length: > 0 } less)
            yield return $"The agents give up: {string.Join(", ", less)}.";
    }

    private static string Names(IReadOnlyList<string>? namespaces) => namespaces is { Count: > 0 } ? string.Join(", ", namespaces.Order(StringComparer.Ordinal)) : "all namespaces";

    private static string Words(Destination to) => $"{string.Join(", ", to.Signals ?? ["metrics", "logs", "traces"])} to {to.Url}";

    private static string Tail(TailPlan? tail) => tail is null ? "not waited for"
        : $"judged after {tail.WaitSeconds:0.#} s, kept where {string.Join(" or ", new[] { tail.Failed ? "a span failed" : null, tail.SlowerSeconds is { } slower ? $"longer than {slower:0.###} s" : null }.OfType<string>().DefaultIfEmpty("the share says so"))}";

    private static string Share(double share) => share >= 1 ? "all" : $"1 in {1 / share:0.#}";

    private static string Times(double factor) => factor >= 1 ? $"{factor:0.#} times" : $"1/{1 / factor:0.#} of";
}
