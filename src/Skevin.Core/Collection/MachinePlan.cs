using System.Text.Json.Serialization;

namespace Skevin.Core.Collection;

/// <summary>What the agent of a machine outside of clusters collects. It runs there as a service and asks its server for this.</summary>
/// <param name="HostMetrics">Processor by mode, memory, disks, file systems and interfaces, from the kernel.</param>
/// <param name="EverySeconds">How often metrics are read, 1 to 300 s.</param>
/// <param name="Files">Log files, as whole paths; in the last part of one <c>*</c> and <c>?</c> stand for other characters.</param>
/// <param name="Endpoints">OpenMetrics endpoints the machine reaches.</param>
/// <param name="Spans">Whether it takes spans and log records that applications send.</param>
/// <param name="Syslog">Whether it takes syslog.</param>
public sealed record MachinePlan(
    bool HostMetrics = true, int EverySeconds = 15, IReadOnlyList<string>? Files = null, IReadOnlyList<MachineEndpoint>? Endpoints = null, bool Spans = false, bool Syslog = false)
{
    private const int Most = 50;

    /// <summary>The same in the terms of a cluster's plan, as far as it has them.</summary>
    [JsonIgnore]
    public CollectionPlan Plan => new(
        new MetricsPlan(ResourceUsage: false, ClusterState: false, Endpoints: false, EverySeconds: EverySeconds, HostMetrics: HostMetrics),
        new LogsPlan(Containers: false, Events: false, Syslog: Syslog),
        Spans ? new TracesPlan() : null);

    /// <summary>What is wrong with it, in sentences; empty when it can be kept.</summary>
    public IEnumerable<string> Problems()
    {
        if (!HostMetrics && !Spans && !Syslog && Files is not { Count: > 0 } && Endpoints is not { Count: > 0 })
            yield return "The plan collects nothing. Choose at least one kind of source.";
        if (EverySeconds is < 1 or > 300)
            yield return "Metrics are read every 1 s to 5 min.";
        if (Files?.Count > Most || Endpoints?.Count > Most)
            yield return $"At most {Most} files and {Most} endpoints.";
        foreach (var file in Files ?? [])
            if (!file.StartsWith('/') || file.EndsWith('/') || file.Length > 400 || file.Split('/').Any(part => part == "..") || file[..file.LastIndexOf('/')].AsSpan().IndexOfAny('*', '?') >= 0)
                yield return $"'{file}' is no path such as /var/log/ledger/*.log: it begins with '/', and only its last part may have * and ?.";
        foreach (var endpoint in Endpoints ?? [])
            if (endpoint.Problem is { } problem)
                yield return problem;
        foreach (var same in (Endpoints ?? []).GroupBy(endpoint => endpoint.Name).Where(group => group.Count() > 1))
            yield return $"Two endpoints are called '{same.Key}'.";
    }
}

/// <summary>An OpenMetrics endpoint a machine's agent reads.</summary>
/// <param name="Name">What serves it, which is the <c>service.name</c> of its data; small letters, digits and '-'.</param>
/// <param name="Url">Where it is, for example <c>http://127.0.0.1:9464/metrics</c>.</param>
public sealed record MachineEndpoint(string Name, string Url)
{
    /// <summary>What is wrong with it, or null.</summary>
    [JsonIgnore]
    public string? Problem => !MachineNames.Fit(Name) ? $"'{Name}' cannot be the name of an endpoint: small letters, digits, '-' and '.', up to 60."
        : !Uri.TryCreate(Url, UriKind.Absolute, out var url) || url.Scheme is not ("http" or "https") || url.UserInfo.Length > 0 ? $"'{Url}' is not an address such as http://127.0.0.1:9464/metrics."
        : null;
}

/// <summary>How machines may be called.</summary>
public static partial class MachineNames
{
    /// <summary>Whether a name can be that of a machine.</summary>
    public static bool Fit(string? name) => name is not null && Name().IsMatch(name);

    [System.Text.RegularExpressions.GeneratedRegex("^[a-z0-9]([a-z0-9.-]{0,58}[a-z0-9])?$")]
    private static partial System.Text.RegularExpressions.Regex Name();
}
