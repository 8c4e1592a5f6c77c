using System.Net;
using Skevin.Core.Traces;
using Skevin.Core.Traffic;

namespace Skevin.StandIn.Model;

/// <summary>One pod's part in a request, done.</summary>
/// <param name="Run">When the container's present run began: what a run did is gone with it.</param>
/// <param name="Start">Nanoseconds since the epoch.</param>
/// <param name="Duration">Nanoseconds.</param>
/// <param name="Trouble">Why it failed; null where it did not.</param>
/// <param name="Exception">Type and stack of what was thrown, where something was.</param>
/// <param name="Weight">How many requests it stands for.</param>
public sealed record ServedRequest(
    SimPod Pod, DateTimeOffset Run, ScenarioWorkload Workload, TraceId Trace, ulong Span, ulong Parent, string Lot, long Start, long Duration, string? Trouble, (string Type, string Stack)? Exception, int Weight = 1)
{
    /// <summary>HTTP status it answered with.</summary>
    public int Status => Trouble is null ? 200 : 503;

    /// <summary>Nanoseconds since the epoch.</summary>
    public long End => Start + Duration;
}

/// <summary>One call a pod waited for, done.</summary>
/// <param name="To">Name of the service called.</param>
/// <param name="Address">Address it called.</param>
/// <param name="Weight">How many calls it stands for.</param>
public sealed record MadeCall(
    SimPod Pod, DateTimeOffset Run, TraceId Trace, ulong Span, ulong Parent, string Method, string To, IPAddress? Address, int Port, long Start, long Duration, int Status, string? Trouble, (string Type, string Stack)? Exception, int Weight = 1)
{
    /// <summary>Nanoseconds since the epoch.</summary>
    public long End => Start + Duration;
}

/// <summary>A connection as the nodes saw it.</summary>
/// <param name="FromNode">Null for one from outside.</param>
/// <param name="ToNode">Null for one to the outside.</param>
/// <param name="Denied">Whether a policy at the receiving node dropped it.</param>
/// <param name="Weight">How many connections it stands for; packets and bytes are of all of them.</param>
public sealed record MadeConnection(
    string? FromNode, string? ToNode, IPAddress From, IPAddress To, ushort FromPort, ushort Port, byte Protocol, bool Denied, long Start, long End, ulong Packets, ulong Bytes,
    string Method, string Target, string Host, ushort HttpStatus, int Weight = 1);

/// <summary>Gets what the requests did, each thing when it is done.</summary>
public interface IRequestSink
{
    /// <summary>A pod answered a request.</summary>
    void Served(ServedRequest request);

    /// <summary>A pod got an answer, or gave up.</summary>
    void Called(MadeCall call);

    /// <summary>A connection ended.</summary>
    void Connected(MadeConnection connection);
}

/// <summary>
/// Single requests on their way through the service graph. Each is simulated when it enters; what it does is told when the model's time has
/// come there, so that counters, log lines, spans and flows all say the same.
/// </summary>
/// <param name="weight">One request in so many is simulated and stands for all of them: a power of two up to 64.</param>
public sealed class RequestModel(LoadModel load, Faults faults, int seed, int weight = 1)
{
    private const double BankPatience = 3;
    private const double PolicyPatience = 1;
    private const double NamePatience = 2;
    private const double NamesFailing = 0.6;
    private const long RetryPause = 25_000_000;
    private const long Nanos = 1_000_000_000;

    private Random _random = new(seed);
    private readonly PriorityQueue<Action<IRequestSink>, long> _due = new();
    private Dictionary<string, SimPod[]> _ready = [];
    private double _bank;
    private IReadOnlyDictionary<string, RouteRule> _routes = new Dictionary<string, RouteRule>();
    private readonly RouteState _state = new();

    /// <summary>Goes on from a moment: what comes is drawn anew, so that no trace has the id of one before.</summary>
    public void GoOn(DateTimeOffset from) => _random = new Random(unchecked(seed * 31 + (int)from.ToUnixTimeSeconds()));

    /// <summary>Takes one step: requests enter, and what has come to its end is told.</summary>
    /// <param name="pods">All pods.</param>
    /// <param name="now">End of the step.</param>
    /// <param name="seconds">Its length.</param>
    /// <param name="sink">Is told.</param>
    /// <param name="routes">What sidecars do on the way to a workload; null for nothing.</param>
    public void Tick(IEnumerable<SimPod> pods, DateTimeOffset now, double seconds, IRequestSink sink, IReadOnlyDictionary<string, RouteRule>? routes = null)
    {
        if (routes is not null)
            _routes = routes;
        _ready = pods.Where(pod => pod.IsReady).GroupBy(pod => $"{pod.Namespace}/{pod.OwnerName}").ToDictionary(group => group.Key, group => group.OrderBy(pod => pod.Name, StringComparer.Ordinal).ToArray());
        _bank = load.BankSeconds(now);
        var begin = Nano(now) - (long)(seconds * Nanos);
        _state.Forget(begin);
        foreach (var workload in Scenario.Workloads.Where(workload => workload.Enters > 0))
        {
            var expected = workload.Enters * (workload.Steady ? LoadCurve.Base : load.Entering(now)) * seconds / weight;
            for (var count = Poisson(expected); count > 0; count--)
                Enter(workload, begin + (long)(_random.NextDouble() * seconds * Nanos));
        }
        // Somebody outside tries a port that is closed to them.
        if (_random.NextDouble() < seconds / 20 / weight)
            Strange(begin + (long)(_random.NextDouble() * seconds * Nanos));
        var until = Nano(now);
        while (_due.TryPeek(out var tell, out var at) && at <= until)
        {
            _due.Dequeue();
            tell(sink);
        }
    }

    private void Enter(ScenarioWorkload workload, long at)
    {
        // Traces that stand for others are those whose random part lies high. Source: OpenTelemetry, "TraceState: Probability Sampling", rejection threshold.
        var trace = new TraceId(Bits(), Bits() | 1 | ((1UL << 56) - (1UL << 56) / (ulong)weight));
        var lot = $"A-{4000 + _random.Next(900)}";
        if (workload.From.Length == 0)
        {
            Serve(workload, null, trace, 0, lot, at);
            return;
        }
        if (Scenario.ById.TryGetValue(workload.From, out var caller))
        {
            if (Pick(caller.Id) is { } pod)
                Call(pod, workload, trace, 0, lot, at);
            return;
        }
        Serve(workload, new Caller(null, workload.From), trace, 0, lot, at);
    }

    private sealed record Caller(SimPod? Pod, string Outside);

    // Simulates a request to a workload and returns when it was answered and what was wrong.
    private (long End, string? Trouble, (string, string)? Exception, SimPod? By, IPAddress? Address) Serve(ScenarioWorkload workload, Caller? from, TraceId trace, ulong parent, string lot, long at, RouteRule? rule = null)
    {
        if (Pick(workload.Id, rule, at) is not { } pod)
            return (at + 2_000_000, $"{workload.Name} has no ready pod", ("NoEndpointException", Stack(workload, "Connect")), null, null);
        if (rule is not null && _state.IsFull(pod, rule, at, weight))
            return (at + 1_000_000, $"{workload.Name} has no connection free, its limit is {rule.Connections}", null, null, null);
        var span = Bits() | 1;
        var (here, trouble, exception) = (at, (string?)null, ((string, string)?)null);
        var own = Exponential(pod.ServiceSeconds);
        if (_random.NextDouble() < pod.Refuses)
        {
            (here, trouble) = (at + (long)(0.002 * Nanos), "queue full, request refused");
        }
        else
        {
            here += (long)(own * 0.6 * Nanos);
            foreach (var call in workload.Calls)
            {
                if (_random.NextDouble() >= call.Share)
                    continue;
                var (end, wrong, thrown) = call.To == Scenario.Bank ? CallBank(pod, trace, span, lot, here) : Call(pod, Scenario.ById[call.To], trace, span, lot, here);
                here = end;
                if (wrong is not null)
                {
                    (trouble, exception) = (wrong, thrown);
                    break;
                }
            }
            here += (long)(own * 0.4 * Nanos);
            if (trouble is null && _random.NextDouble() < 0.0008)
                (trouble, exception) = ("lot was changed meanwhile", ("ConflictException", Stack(workload, "Store")));
        }
        if (rule is not null)
            _state.Called(pod, rule, at, here, trouble is not null);
        var served = new ServedRequest(pod, pod.ContainerStarted, workload, trace, span, parent, lot, at, here - at, trouble, exception, weight);
        Tell(here, sink => sink.Served(served));
        if (from is null)
            return (here, trouble, exception, pod, null);
        var (source, destination) = Addresses(from, pod, workload);
        Connect(from.Pod?.Node, pod.Node, source, destination, (ushort)workload.Port, 6, false, at, here, workload.Method, lot, workload, served.Status);
        return (here, trouble, exception, pod, destination);
    }

    private (long End, string? Trouble, (string, string)? Exception) Call(SimPod caller, ScenarioWorkload workload, TraceId trace, ulong parent, string lot, long at)
    {
        var span = Bits() | 1;
        if (_random.NextDouble() < 0.1)
            Resolve(caller, at);
        if (faults.IsOn(Faults.NamesFail) && _random.NextDouble() < NamesFailing)
        {
            var gaveUp = at + (long)(NamePatience * Nanos);
            Resolve(caller, gaveUp);
            var (why, unknown) = ($"{workload.Name}.{workload.Namespace} cannot be resolved within {NamePatience:0} s", ("NameResolutionException", Stack(Scenario.Of(caller)!, "Resolve")));
            Told(gaveUp, new MadeCall(caller, caller.ContainerStarted, trace, span, parent, workload.Method, workload.Name, null, workload.Port, at, gaveUp - at, 0, why, unknown, weight));
            return (gaveUp, why, unknown);
        }
        if (faults.IsOn(Faults.PolicyDenies) && caller.OwnerName == "door-watch" && workload.Name == "queue" && Pick(workload.Id) is { } denied)
        {
            var end = at + (long)(PolicyPatience * Nanos);
            var (source, destination) = Addresses(new Caller(caller, ""), denied, workload);
            Connect(caller.Node, denied.Node, source, destination, (ushort)workload.Port, 6, true, at, end, "", lot, workload, 0);
            var thrown = ("TimeoutException", Stack(Scenario.Of(caller)!, "Publish"));
            Told(end, new MadeCall(caller, caller.ContainerStarted, trace, span, parent, workload.Method, workload.Name, destination, workload.Port, at, end - at, 0, "queue does not answer within 1 s", thrown, weight));
            return (end, "queue does not answer within 1 s", thrown);
        }
        // Rules of the way act where the caller has a sidecar that carries them out.
        var rule = caller.Sidecar is null ? null : _routes.GetValueOrDefault(workload.Id);
        var (tried, begin) = (0, at + 300_000);
        while (true)
        {
            var (answered, trouble, exception, by, address) = Serve(workload, new Caller(caller, ""), trace, span, lot, begin, rule);
            var status = by is null ? 0 : trouble is null ? 200 : 503;
            if (rule is { Timeout: > 0 } && answered > begin + (long)(rule.Timeout * Nanos))
                (answered, trouble, exception, status) = (begin + (long)(rule.Timeout * Nanos), $"no answer of {workload.Name} within {rule.Timeout:0.###} s", ("TimeoutException", Stack(Scenario.Of(caller)!, "Send")), 504);
            if (trouble is not null && rule is not null && tried++ < rule.Retries)
            {
                begin = answered + RetryPause;
                continue;
            }
            var back = answered + 300_000;
            Told(back, new MadeCall(caller, caller.ContainerStarted, trace, span, parent, workload.Method, workload.Name, address, workload.Port, at, back - at,
                status, trouble, trouble is null ? null : status is 0 or 504 ? exception : null, weight));
            return (back, trouble is null ? null : $"{workload.Name}: {trouble}", exception);
        }
    }

    private (long End, string? Trouble, (string, string)? Exception) CallBank(SimPod caller, TraceId trace, ulong parent, string lot, long at)
    {
        var span = Bits() | 1;
        var wanted = _bank * (0.7 + 0.6 * _random.NextDouble());
        var late = wanted > BankPatience;
        var end = at + (long)(Math.Min(wanted, BankPatience) * Nanos);
        var to = IPAddress.Parse(Outside(Scenario.Bank, 0, caller.Addresses.All(address => address.Contains(':'))));
        var trouble = late ? $"no answer from bank within {BankPatience:0} s" : null;
        var thrown = late ? ("TimeoutException", Stack(Scenario.Of(caller)!, "Reserve")) : ((string, string)?)null;
        Connect(caller.Node, null, Own(caller, to), to, 443, 6, false, at, end, "", lot, null, 0);
        Told(end, new MadeCall(caller, caller.ContainerStarted, trace, span, parent, "POST", Scenario.Bank, to, 443, at, end - at, late ? 0 : 200, trouble, thrown, weight));
        return (end, trouble, thrown);
    }

    private void Resolve(SimPod caller, long at)
    {
        if (Pick(Scenario.NameService) is not { } server)
            return;
        var (source, destination) = Addresses(new Caller(caller, ""), server, Scenario.ById[Scenario.NameService]);
        Connect(caller.Node, server.Node, source, destination, 53, 17, false, at - 1_000_000, at, "", "", null, 0);
    }

    private void Strange(long at)
    {
        if (Pick("edge/gatehouse") is not { } pod)
            return;
        var (source, destination) = Addresses(new Caller(null, "strangers"), pod, Scenario.ById["edge/gatehouse"]);
        Connect(null, pod.Node, source, destination, 22, 6, true, at, at + 1_000_000, "", "", null, 0);
    }

    private void Connect(string? fromNode, string? toNode, IPAddress from, IPAddress to, ushort port, byte protocol, bool denied, long start, long end, string method, string lot, ScenarioWorkload? workload, int status)
    {
        // Only plain HTTP inside the cluster can be read by a node.
        var seen = method.Length > 0 && workload is { Port: 8080 or 5671 };
        var connection = new MadeConnection(
            fromNode, toNode, from, to, (ushort)(32768 + _random.Next(28000)), port, protocol, denied, start / 1_000_000, (end + 999_999) / 1_000_000,
            (ulong)weight * (denied ? 3UL : protocol == 17 ? 1UL : 6UL), (ulong)weight * (denied ? 180UL : protocol == 17 ? 74UL : (ulong)(640 + _random.Next(500))),
            seen ? method : "", seen ? workload!.Route.Replace("{lot}", lot) : "", seen ? $"{workload!.Name}.{workload.Namespace}" : "", (ushort)(seen ? status : 0), weight);
        Tell(end, sink => sink.Connected(connection));
    }

    private (IPAddress From, IPAddress To) Addresses(Caller from, SimPod to, ScenarioWorkload workload)
    {
        var mustV6 = to.Addresses.All(address => address.Contains(':')) || from.Pod?.Addresses.All(address => address.Contains(':')) == true;
        // Those outside come over both families; inside, the platform and the cold store speak IPv6.
        var v6 = mustV6 || (from.Pod is null ? _random.NextDouble() < 0.25 : workload.Namespace is "platform" or "coldstore");
        var destination = IPAddress.Parse(to.Addresses.First(address => address.Contains(':') == v6));
        var network = Scenario.Outside.FirstOrDefault(outside => outside.Name == from.Outside);
        return (from.Pod is { } pod ? Own(pod, destination) : IPAddress.Parse(Outside(from.Outside, _random.Next(network.Hosts), v6)), destination);
    }

    private static IPAddress Own(SimPod pod, IPAddress to) =>
        IPAddress.Parse(pod.Addresses.FirstOrDefault(address => address.Contains(':') == (to.AddressFamily == System.Net.Sockets.AddressFamily.InterNetworkV6)) ?? pod.Addresses[0]);

    private static string Outside(string name, int host, bool v6)
    {
        var network = Scenario.Outside.First(outside => outside.Name == name);
        return v6 ? network.V6 + (host + 1).ToString("x") : network.Name == "buyers" ? network.V4 + (host + 10) : network.V4 + host;
    }

    private void Told(long at, MadeCall call) => Tell(at, sink => sink.Called(call));

    private void Tell(long at, Action<IRequestSink> tell) => _due.Enqueue(tell, at);

    private SimPod? Pick(string id, RouteRule? rule = null, long at = 0)
    {
        if (!_ready.TryGetValue(id, out var pods) || (id == Faults.Mistyped && faults.IsOn(Faults.SelectorMatchesNothing)))
            return null;
        var open = rule is null ? pods : _state.Open(pods, rule, at);
        return open[_random.Next(open.Length)];
    }

    private ulong Bits() => (ulong)_random.NextInt64() << 1 ^ (ulong)_random.NextInt64();

    private double Exponential(double mean) => -Math.Log(1 - _random.NextDouble()) * mean;

    // Knuth's way for small means, the normal approximation above. Source: textbook.
    private int Poisson(double mean)
    {
        if (mean > 60)
            return Math.Max(0, (int)Math.Round(mean + Math.Sqrt(mean) * Normal()));
        var (limit, product, count) = (Math.Exp(-mean), _random.NextDouble(), 0);
        for (; product > limit; count++)
            product *= _random.NextDouble();
        return count;
    }

    private double Normal() => Math.Sqrt(-2 * Math.Log(1 - _random.NextDouble())) * Math.Cos(2 * Math.PI * _random.NextDouble());

    private static long Nano(DateTimeOffset time) => time.ToUnixTimeMilliseconds() * 1_000_000;

    private static string Stack(ScenarioWorkload workload, string method)
    {
        var name = string.Concat(workload.Name.Split('-').Select(part => char.ToUpperInvariant(part[0]) + part[1..]));
        var space = char.ToUpperInvariant(workload.Namespace[0]) + workload.Namespace[1..];
        return $"   at {space}.{name}.{name}Link.{method}(Lot lot)\n   at {space}.{name}.{name}Handler.Handle(Request request)\n   at {space}.{name}.Program.Serve(Connection connection)";
    }
}
