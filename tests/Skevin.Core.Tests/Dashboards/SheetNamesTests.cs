using Skevin.Core.Dashboards;

namespace Skevin.Core.Tests.Dashboards;

public sealed class SheetNamesTests
{
    private sealed class Here : IKnownNames
    {
        public IReadOnlyList<string> Metrics => ["container.cpu.time", "container.memory.working_set", "http_server_requests", "k8s.node.network.io"];

        public Task<IReadOnlyList<string>?> Fields(string source, CancellationToken stop) => Task.FromResult<IReadOnlyList<string>?>(source switch
        {
            "container.cpu.time" => ["k8s.pod.name", "namespace", "node", "pod"],
            "http_server_requests" => ["http_request_method", "http_response_status_code", "namespace"],
            "spans" => ["duration", "http.response.status_code", "service", "status"],
            _ => null,
        });
    }

    private static Sheet Of(params string[] texts) => new("", "From elsewhere", "", [.. texts.Select((text, i) => new Strip("Strip " + i, "", text, "lines", 96, "status_code", ""))]);

    private static Task<IReadOnlyList<ForeignName>> Foreign(Sheet sheet) => SheetNames.Foreign(sheet, new Here(), TestContext.Current.CancellationToken);

    [Fact]
    public async Task Names_that_are_known_are_not_asked_about()
    {
        (await Foreign(Of("container.cpu.time -> where namespace = \"auction\" -> rate -> sum by pod", "spans -> where status = \"error\" -> p95 duration by service every 1m", "arrivals -> count by state"))).ShouldBeEmpty();
        // What the enquiry makes itself is nobody's name; behind traces and kinds stand columns, not fields.
        (await Foreign(Of("spans -> set slow = duration / 2 -> where slow > 1s -> show slow", "spans -> traces -> order spans down", "logs -> parse \"sold {lot}\" -> count by lot every 1m", "logs -> parse json -> count by anything every 1m"))).ShouldBeEmpty();
    }

    [Fact]
    public async Task A_metric_first_then_its_fields_each_with_the_nearest_there_are()
    {
        var sheet = Of("http_requests -> where method = \"GET\" -> rate -> sum by status_code", "http_requests -> rate -> sum");
        var metric = (await Foreign(sheet)).ShouldHaveSingleItem();
        (metric.Source, metric.Name).ShouldBe(("", "http_requests"));
        metric.Strips.ShouldBe(["Strip 0", "Strip 1"]);
        metric.Nearest[0].ShouldBe("http_server_requests");

        var bound = SheetNames.Bound(sheet, [new("", "http_requests", "http_server_requests")]);
        var fields = await Foreign(bound);
        fields.Select(one => (one.Source, one.Name, one.Nearest[0])).ShouldBe([("http_server_requests", "method", "http_request_method"), ("http_server_requests", "status_code", "http_response_status_code")]);

        var whole = SheetNames.Bound(bound, [.. fields.Select(one => new NameBinding(one.Source, one.Name, one.Nearest[0]))]);
        (await Foreign(whole)).ShouldBeEmpty();
        whole.Strips[0].Text.ShouldBe("http_server_requests\n  -> where http_request_method = \"GET\"\n  -> rate\n  -> sum by http_response_status_code");
        (whole.Strips[0].By, whole.Strips[1].By).ShouldBe(("http_response_status_code", "status_code"), "a strip that does not use the name stays as it is");
    }

    [Fact]
    public void Behind_a_formula_the_fields_of_its_parts_are_renamed_and_only_where_they_are_of_that_source()
    {
        var sheet = Of("a: spans -> count by code every 1m; b: logs -> count by code every 1m; a / b -> sum by code") with { Choices = [new("code"), new("code", "logs")] };
        var bound = SheetNames.Bound(sheet, [new("spans", "code", "http.response.status_code")]);
        bound.Strips[0].Text.ShouldBe("a: spans\n  -> count by http.response.status_code every 1m\nb: logs\n  -> count by code every 1m\na / b\n  -> sum by http.response.status_code");
        bound.Choices!.Select(choice => choice.Field).ShouldBe(["http.response.status_code", "code"]);
    }

    [Fact]
    public async Task A_choice_is_bound_as_the_strips_are()
    {
        var sheet = Of("spans -> count by service every 1m") with { Choices = [new("svc"), new("instance", "container_cpu_time")] };
        (await Foreign(sheet)).Select(one => (one.Source, one.Name, one.Strips[0])).ShouldBe([("", "container_cpu_time", SheetNames.Above), ("spans", "svc", SheetNames.Above)]);
        var bound = SheetNames.Bound(sheet, [new("", "container_cpu_time", "container.cpu.time"), new("spans", "svc", "service")]);
        bound.Choices.ShouldBe([new("service"), new("instance", "container.cpu.time")]);
        (await Foreign(bound)).Select(one => (one.Source, one.Name)).ShouldBe([("container.cpu.time", "instance")]);
    }

    [Theory]
    [InlineData("http.request.method", "http_request_method")]
    [InlineData("container_cpu_times", "container.cpu.time")]
    [InlineData("kontainer.cpu.time", "container.cpu.time")]
    public void Words_in_common_count_before_letters(string name, string nearest) =>
        SheetNames.Nearest(name, ["container.cpu.time", "http_request_method", "http.route", "container.memory.working_set"]).First().ShouldBe(nearest);

    [Fact]
    public void What_has_nothing_in_common_is_not_offered() => SheetNames.Nearest("lots_sold", ["container.cpu.time"]).ShouldBeEmpty();
}
