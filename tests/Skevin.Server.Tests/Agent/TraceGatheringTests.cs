using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Trace.V1;
using OpenTelemetry.Proto.Resource.V1;
using OpenTelemetry.Proto.Trace.V1;
using Skevin.Agent.Buffer;
using Skevin.Agent.Collection;
using Skevin.Core.Collection;
using Skevin.Core.Formats.Otlp;
using Skevin.Server.Tests.Signals;

namespace Skevin.Server.Tests.Agent;

/// <summary>Spans that wait for their traces outlive a kill; batches find their way to each place, whatever becomes of the others.</summary>
public sealed class TraceGatheringTests
{
    private static ExportTraceServiceRequest Request(byte trace)
    {
        var scope = new ScopeSpans();
        scope.Spans.Add(new Span { TraceId = ByteString.CopyFrom([.. new byte[15], trace]), SpanId = ByteString.CopyFrom(new byte[] { 1, 1, 1, 1, 1, 1, 1, trace }), StartTimeUnixNano = 1, EndTimeUnixNano = 2, Status = new Status { Code = Status.Types.StatusCode.Error } });
        var resource = new ResourceSpans { Resource = new Resource() };
        OtlpAttributes.Write(resource.Resource.Attributes, [new("service.name", "clock"), new("k8s.namespace.name", "auction"), new("k8s.deployment.name", "clock")]);
        resource.ScopeSpans.Add(scope);
        var request = new ExportTraceServiceRequest();
        request.ResourceSpans.Add(resource);
        return request;
    }

    [Fact]
    public void What_waited_when_the_collector_was_killed_is_judged_by_its_successor_once()
    {
        var folder = Directory.CreateTempSubdirectory("skevin-gathering").FullName;
        var plan = new TracesPlan(0.5, null, new TailPlan(1));
        Outlets Open() => new(AgentReceivingTests.Environment(folder), new HttpClient(), new HttpClient());
        var first = new TraceGathering(Path.Combine(folder, "buffer"), Open(), TimeProvider.System);
        first.Take(Request(1));
        first.Take(Request(2));
        first.State.ShouldSatisfyAllConditions(state => state.Traces.ShouldBe(2), state => state.Spans.ShouldBe(2));
        // Killed: nothing is closed, and half a batch lies there.
        File.WriteAllText(Path.Combine(folder, "buffer", "waiting", "0000000000000009_x_traces.batch.part"), "half");
        var outlets = Open();
        var second = new TraceGathering(Path.Combine(folder, "buffer"), outlets, TimeProvider.System);
        second.State.Spans.ShouldBe(2);
        second.Decide(plan with { Tail = null });
        (outlets.Own.Count, outlets.Own.Oldest!.Contents.Sum(content => content.Count), second.State.Spans).ShouldBe((1, 2, 0));
        outlets.Own.Oldest.Contents.ShouldHaveSingleItem().Source.ShouldBe("auction/clock");
        new TraceGathering(Path.Combine(folder, "buffer"), Open(), TimeProvider.System).State.Spans.ShouldBe(0);
    }

    [Fact]
    public void A_batch_goes_to_everyone_who_takes_its_signal_and_what_waits_for_one_that_is_gone_is_given_up()
    {
        var outlets = new Outlets(AgentReceivingTests.Environment(Directory.CreateTempSubdirectory("skevin-outlets").FullName), new HttpClient(), new HttpClient());
        var given = new List<(string?, bool)>();
        outlets.Done += (outlet, _, accepted) => given.Add((outlet?.Name, accepted));
        CollectionPlan Plan(TailPlan? tail, params Destination[] to) => new(new MetricsPlan(), null, new TracesPlan(1, null, tail), null, to);
        AgentConfiguration With(CollectionPlan plan) => new("larkfield-north", 1, "http://127.0.0.1:1", plan, 1 << 20);
        var archive = new Destination("archive", "http://127.0.0.1:1", ["traces"]);
        outlets.Follow(With(Plan(null, archive)));
        outlets.Seal("traces", Request(1), [new("traces", "auction/clock", 1)]);
        outlets.Seal("metrics", Request(1), []);
        (outlets.Own.Count, outlets.Others.Single().Buffer.Count).ShouldBe((2, 1));
        // Gathered first: from a node they go neither to the server nor to the archive.
        outlets.Follow(With(Plan(new TailPlan(), archive)));
        outlets.Seal("traces", Request(2), [new("traces", "auction/clock", 1)]);
        (outlets.Own.Count, string.Join(' ', outlets.Others.Select(outlet => $"{outlet.Name}:{outlet.Buffer.Count}").Order(StringComparer.Ordinal))).ShouldBe((2, "gathering:1 to-archive:1"));
        given.ShouldBeEmpty();
        outlets.Follow(With(Plan(new TailPlan())));
        given.ShouldBe([("to-archive", false)]);
    }
}
