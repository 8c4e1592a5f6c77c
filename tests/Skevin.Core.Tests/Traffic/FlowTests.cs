using System.Net;
using CsCheck;
using Skevin.Core.Clusters;
using Skevin.Core.Traffic;

namespace Skevin.Core.Tests.Traffic;

public sealed class FlowTests
{
    private static FlowMinute Minute(FlowDirection direction, byte status, long flows, string node = "n1", long minute = 60_000) => new(
        new FlowKey(minute, node, direction, IPAddress.Parse("192.0.2.1"), IPAddress.Parse("192.0.2.2"), 8080, 6, status, "GET", "/lots/{id}", ""), flows, flows * 6, flows * 1000, 0x1b, 0);

    [Fact]
    public void A_flow_seen_where_it_leaves_and_where_it_arrives_counts_once()
    {
        var once = FlowPairing.Once([Minute(FlowDirection.Egress, ForwardingStatus.Forwarded, 10), Minute(FlowDirection.Ingress, ForwardingStatus.Forwarded, 10, "n2")]);
        once.ShouldHaveSingleItem().Key.Node.ShouldBe("n1");
        once[0].Flows.ShouldBe(10);
    }

    [Fact]
    public void What_was_dropped_on_arrival_is_taken_from_what_left()
    {
        var once = FlowPairing.Once([Minute(FlowDirection.Egress, ForwardingStatus.Forwarded, 10), Minute(FlowDirection.Ingress, ForwardingStatus.AclDeny, 4, "n2"), Minute(FlowDirection.Ingress, ForwardingStatus.Forwarded, 6, "n2")]);
        once.Sum(minute => minute.Flows).ShouldBe(10);
        once.Single(minute => ForwardingStatus.IsDropped(minute.Key.Status)).Flows.ShouldBe(4);
    }

    [Fact]
    public void What_is_seen_only_once_stays()
    {
        FlowPairing.Once([Minute(FlowDirection.Ingress, ForwardingStatus.Forwarded, 3)]).ShouldHaveSingleItem().Flows.ShouldBe(3);
        FlowPairing.Once([Minute(FlowDirection.Egress, ForwardingStatus.Forwarded, 2), Minute(FlowDirection.Egress, ForwardingStatus.Forwarded, 5)]).ShouldHaveSingleItem().Flows.ShouldBe(7);
    }

    [Fact]
    public void Pairing_many_at_once_gives_what_pairing_each_alone_gives()
    {
        var one = Gen.Select(Gen.Int[1, 3], Gen.Int[1, 3], Gen.Int[1, 2], Gen.Bool, Gen.Bool, Gen.Long[0, 20], Gen.Int[1, 3]).Select((minute, source, port, leaves, dropped, flows, node) => new FlowMinute(
            new FlowKey(minute * 60_000L, "n" + node, leaves ? FlowDirection.Egress : FlowDirection.Ingress, IPAddress.Parse("192.0.2." + source), IPAddress.Parse("192.0.2.9"), (ushort)(8080 + port), 6, dropped ? ForwardingStatus.AclDeny : ForwardingStatus.Forwarded, "GET", source == 1 ? "/lots/{id}" : "", ""),
            flows, flows * 6, flows * 1000, 0, 0));
        one.Array[0, 40].Sample(minutes =>
        {
            // What belongs together by any other way of telling: minute, ends, port, path.
            var apart = minutes.GroupBy(minute => (minute.Key.Minute, minute.Key.Source.ToString(), minute.Key.Port, minute.Key.Path)).SelectMany(group => FlowPairing.Once(group)).Select(minute => minute.ToString()).Order();
            FlowPairing.Once(minutes).Select(minute => minute.ToString()).Order().ShouldBe(apart);
            // Alone, either all of a group stand, or what left and what was dropped on arrival.
            foreach (var group in minutes.GroupBy(minute => (minute.Key.Minute, minute.Key.Source.ToString(), minute.Key.Port)))
                FlowPairing.Once(group).Where(minute => minute.Key.Direction != FlowDirection.Egress && !ForwardingStatus.IsDropped(minute.Key.Status)).Any().ShouldBe(group.All(minute => minute.Key.Direction != FlowDirection.Egress) && group.Any(minute => !ForwardingStatus.IsDropped(minute.Key.Status)));
        }, iter: 2000);
    }

    [Fact]
    public void Pairing_keeps_the_count_of_what_left_whatever_was_seen_on_arrival() =>
        Gen.Select(Gen.Long[0, 50].Array[1, 4], Gen.Long[0, 50].Array[0, 4]).Sample((left, dropped) =>
        {
            var minutes = left.Select((flows, i) => Minute(FlowDirection.Egress, ForwardingStatus.Forwarded, flows, "a" + i)).Concat(dropped.Select((flows, i) => Minute(FlowDirection.Ingress, ForwardingStatus.AclDeny, flows, "b" + i)));
            FlowPairing.Once(minutes).Sum(minute => minute.Flows).ShouldBe(Math.Max(left.Sum(), dropped.Sum()));
        });

    [Theory]
    [InlineData(60_000, 60_000)]
    [InlineData(60_001, 120_000)]
    [InlineData(119_999, 120_000)]
    public void A_flow_belongs_to_the_minute_whose_end_is_not_before_its_own(long end, long minute) =>
        FlowMinutes.Of([new FlowRecord("n", FlowDirection.Egress, IPAddress.Loopback, IPAddress.Loopback, 1, 2, 6, 0, 64, 0, end, 1, 1, "", "", "", 0)]).ShouldHaveSingleItem().Key.Minute.ShouldBe(minute);

    [Theory]
    [InlineData("/lots/A-4411/writes?x=1", "/lots/{id}/writes")]
    [InlineData("/v1/traces", "/v1/traces")]
    [InlineData("/a/0f3b/é", "/a/{id}/é")]
    [InlineData("", "")]
    public void A_path_becomes_countable(string target, string template) => PathTemplate.Of(target).ShouldBe(template);

    [Fact]
    public void Blocks_give_back_what_was_put_in_and_refuse_what_was_not() =>
        Gen.Select(Gen.Long[0, 100].Array[0, 30], Gen.Int[0, 500], Gen.Byte).Sample((counts, at, with) =>
        {
            var minutes = counts.Select((flows, i) => Minute((FlowDirection)(i % 2), 64, flows, "n" + i % 3, i * 60_000)).ToArray();
            var block = FlowBlock.Encode(minutes);
            FlowBlock.Decode(block).ShouldBe(minutes);
            block[at % block.Length] ^= with;
            try
            {
                FlowBlock.Decode(block);
            }
            catch (FormatException)
            {
                // Said so.
            }
        }, iter: 1500);

    [Fact]
    public void An_address_has_the_name_of_who_had_it_then()
    {
        var book = new AddressBook();
        book.Put(new AddressLease("192.0.2.7", 1_000_000, 2_000_000, "auction", "ledger-1", "Deployment", "ledger", "n1"));
        book.Put(new AddressLease("192.0.2.7", 3_000_000, long.MaxValue, "payout", "settle-1", "Deployment", "settle", "n1"));
        string? Name(long time) => book.Find(IPAddress.Parse("192.0.2.7"), time)?.Workload;
        Name(500_000).ShouldBeNull();
        Name(1_500_000).ShouldBe("ledger");
        // A minute's grace for the last flows of a pod that has ended.
        Name(2_050_000).ShouldBe("ledger");
        Name(2_500_000).ShouldBeNull();
        Name(9_000_000).ShouldBe("settle");
    }

    [Fact]
    public void Addresses_of_an_inventory_are_spelled_one_way()
    {
        // RFC 5952 section 4: lower case, shortest form.
        var pod = new PodState("coldstore", "room-sensors-1", "u", "n1", "Running", null, null, ["2001:DB8:0:0:0:0:0:1F"], "Deployment", "room-sensors", [], [], DateTimeOffset.UnixEpoch, null);
        AddressBook.Of(Inventory.Empty with { Pods = [pod] }).ShouldHaveSingleItem().Address.ShouldBe("2001:db8::1f");
    }

    [Fact]
    public void Flags_outcomes_and_reasons_have_words()
    {
        // RFC 9293 section 3.1: FIN 1, SYN 2, PSH 8, ACK 16. IANA forwardingStatus: 64 forwarded, 129 ACL deny.
        FlowWords.Flags(0b0001_1011).ShouldBe("FSPA");
        (ForwardingStatus.Outcome(64), ForwardingStatus.Outcome(129), ForwardingStatus.Outcome(0)).ShouldBe(("forwarded", "dropped", "unknown"));
        ForwardingStatus.Reason(129).ShouldBe("denied by policy");
        (FlowWords.Protocol(6), FlowWords.Protocol(17), FlowWords.Protocol(250)).ShouldBe(("tcp", "udp", "250"));
    }

    private static FlowRecord Single(FlowDirection direction, long end, ushort port = 40_000, byte status = ForwardingStatus.Forwarded) =>
        new("n", direction, IPAddress.Parse("192.0.2.1"), IPAddress.Parse("2001:db8::2"), port, 8080, 6, 0x1b, status, end - 20, end, 6, 700, "GET", "/lots/A-1", "lot-cache", 200);

    [Fact]
    public void Single_flows_seen_twice_stand_once_though_the_nodes_clocks_differ()
    {
        FlowRecord[] seen = [Single(FlowDirection.Egress, 1000), Single(FlowDirection.Ingress, 1900), Single(FlowDirection.Egress, 60_000), Single(FlowDirection.Ingress, 60_001, status: ForwardingStatus.AclDeny), Single(FlowDirection.Ingress, 90_000), Single(FlowDirection.Egress, 90_000, port: 40_001)];
        FlowPairing.Once(seen).Select(flow => (flow.End, flow.Direction, flow.SourcePort)).ShouldBe(
            [(1000, FlowDirection.Egress, (ushort)40_000), (60_001, FlowDirection.Ingress, (ushort)40_000), (90_000, FlowDirection.Ingress, (ushort)40_000), (90_000, FlowDirection.Egress, (ushort)40_001)], ignoreOrder: true);
    }

    [Fact]
    public void Blocks_of_single_flows_give_back_what_was_put_in_and_refuse_what_was_not() =>
        Gen.Select(Gen.Select(Gen.Long[0, 1_800_000_000_000], Gen.UShort, Gen.Byte, Gen.ULong).Select((end, port, bits, bytes) => Single((FlowDirection)(bits & 1), end, port, bits) with { Bytes = bytes, Flows = port }).Array[0, 30], Gen.Int[0, 500], Gen.Byte).Sample((flows, at, with) =>
        {
            var block = FlowRecordBlock.Encode(flows);
            FlowRecordBlock.Decode(block).ShouldBe(flows.OrderBy(flow => flow.End));
            block[at % block.Length] = with;
            try
            {
                FlowRecordBlock.Decode(block);
            }
            catch (FormatException)
            {
            }
        }, iter: 300);
}
