using System.Net;
using System.Net.Http.Json;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using Microsoft.Extensions.DependencyInjection;
using Skevin.Core.Access;
using Skevin.Server.Access;
using Skevin.Server.People;

namespace Skevin.Server.Tests;

public sealed class AccessMatrixTests(RunningServer server) : IClassFixture<RunningServer>
{
    private IEnumerable<(string Method, string Path, NeededRole? Needs, OpenBecause? Open)> Endpoints() =>
        server.Services.GetRequiredService<EndpointDataSource>().Endpoints.OfType<RouteEndpoint>()
            .SelectMany(endpoint => (endpoint.Metadata.GetMetadata<HttpMethodMetadata>()?.HttpMethods ?? ["GET"]).Select(method => (
                method, endpoint.RoutePattern.RawText ?? "", endpoint.Metadata.GetMetadata<NeededRole>(), endpoint.Metadata.GetMetadata<OpenBecause>())));

    private static async Task<HttpStatusCode> Call(HttpClient client, string method, string path)
    {
        var filled = path.Replace("{id:guid}", Guid.NewGuid().ToString()).Replace("{id:int}", "999999").Replace("{id}", "none").Replace("{name}", "none")
            .Replace("{documentName}", "openapi").TrimStart('/');
        if (path == "/api/timeline")
            filled += "?from=2026-11-24T00:00:00Z&slotMinutes=10&slots=10";
        if (path == "/api/ask/fields")
            filled += "?metric=none";
        using var request = new HttpRequestMessage(new HttpMethod(method), filled);
        if (method is "POST" or "PUT")
            request.Content = JsonContent.Create(new { });
        using var answer = await client.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
        return answer.StatusCode;
    }

    [Fact]
    public void Every_endpoint_states_who_may_call_it()
    {
        var all = Endpoints().ToArray();
        all.Length.ShouldBeGreaterThan(30);
        all.Where(endpoint => endpoint.Needs is null == (endpoint.Open is null)).Select(endpoint => endpoint.Path).ShouldBeEmpty();
        var open = all.Where(endpoint => endpoint.Open is not null).Select(endpoint => endpoint.Path).Distinct().Order(StringComparer.Ordinal).ToArray();
        open.Where(path => path.EndsWith("Service/Export", StringComparison.Ordinal)).Count().ShouldBe(3);
        open.Where(path => !path.StartsWith("/opentelemetry.proto.collector.", StringComparison.Ordinal)).ShouldBe(
            ["/api/session", "/api/session/hint", "/api/{documentName}.json", "/health/live", "/health/ready", "/v1/agent/configuration", "/v1/flows", "/v1/logs", "/v1/metrics", "/v1/traces", "{*path:nonfile}"]);
    }

    [Fact]
    public void Every_endpoint_that_may_change_something_is_written_down_or_states_that_it_only_reads()
    {
        var writes = server.Services.GetRequiredService<EndpointDataSource>().Endpoints.OfType<RouteEndpoint>()
            .Where(endpoint => endpoint.Metadata.GetMetadata<NeededRole>() is not null && endpoint.Metadata.GetMetadata<HttpMethodMetadata>()?.HttpMethods.Any(method => method != "GET") == true).ToArray();
        writes.Length.ShouldBeGreaterThan(20);
        // Going back to one's own eyes and signing out change nothing for others.
        writes.Where(endpoint => (endpoint.Metadata.GetMetadata<Audited>() is null) == (endpoint.Metadata.GetMetadata<ReadsOnly>() is null)).Select(endpoint => endpoint.RoutePattern.RawText).Order()
            .ShouldBe(["/api/session", "/api/session/as"]);
    }

    [Fact]
    public async Task Without_sign_in_every_closed_endpoint_is_401()
    {
        var client = server.Anonymous();
        foreach (var (method, path, needs, _) in Endpoints().Where(endpoint => endpoint.Needs is not null))
            (await Call(client, method, path)).ShouldBe(HttpStatusCode.Unauthorized, $"{method} {path}");
    }

    [Fact]
    public async Task Each_role_opens_its_own_endpoints_and_no_others()
    {
        var single = Enum.GetValues<Roles>().Where(role => role is not (Roles.None or Roles.All)).ToArray();
        foreach (var role in single)
        {
            var client = await server.Person(role);
            foreach (var (method, path, needs, _) in Endpoints().Where(endpoint => endpoint.Needs is not null && endpoint.Path != "/api/session"))
            {
                var status = await Call(client, method, path);
                if (needs!.Role == Roles.None || needs.Role == role)
                    status.ShouldNotBeOneOf(HttpStatusCode.Unauthorized, HttpStatusCode.Forbidden);
                else
                    status.ShouldBe(HttpStatusCode.Forbidden, $"{role}: {method} {path}");
            }
        }
    }

    [Fact]
    public async Task A_form_of_another_site_cannot_write()
    {
        using var form = new HttpRequestMessage(HttpMethod.Post, "api/contacts") { Content = new FormUrlEncodedContent([new("name", "x"), new("url", "http://x")]) };
        (await server.Keeper.SendAsync(form)).StatusCode.ShouldBe(HttpStatusCode.UnsupportedMediaType);
    }

    [Fact]
    public async Task The_cookie_is_strict_and_not_for_scripts()
    {
        using var answer = await server.Anonymous().PostAsJsonAsync("api/session", new { email = "amsel@larkfield.example", password = "falling-clock" });
        var cookie = answer.Headers.GetValues("Set-Cookie").Single().ToLowerInvariant();
        cookie.ShouldContain("samesite=strict");
        cookie.ShouldContain("httponly");
        cookie.ShouldNotContain("secure");
    }

    [Fact]
    public async Task Behind_a_proxy_that_ends_TLS_the_cookie_is_secure()
    {
        using var request = new HttpRequestMessage(HttpMethod.Post, "api/session") { Content = JsonContent.Create(new { email = "amsel@larkfield.example", password = "falling-clock" }) };
        request.Headers.Add("X-Forwarded-Proto", "https");
        using var answer = await server.Anonymous().SendAsync(request);
        answer.Headers.GetValues("Set-Cookie").Single().ToLowerInvariant().ShouldContain("; secure");
    }

    [Fact]
    public async Task A_wrong_password_says_what_to_do_and_not_which_half_was_wrong()
    {
        foreach (var email in new[] { "amsel@larkfield.example", "nobody@larkfield.example" })
        {
            using var answer = await server.Anonymous().PostAsJsonAsync("api/session", new { email, password = "wrong-wrong" });
            answer.StatusCode.ShouldBe(HttpStatusCode.Unauthorized);
            answer.Content.Headers.ContentType!.MediaType.ShouldBe("application/problem+json");
            (await answer.Content.ReadAsStringAsync()).ShouldContain("E-mail or password is wrong.");
        }
    }

    [Fact]
    public async Task An_unknown_address_of_the_api_is_problem_details()
    {
        using var answer = await server.Keeper.GetAsync("api/nothing");
        answer.StatusCode.ShouldBe(HttpStatusCode.NotFound);
        answer.Content.Headers.ContentType!.MediaType.ShouldBe("application/problem+json");
    }

    [Fact]
    public async Task The_pages_types_are_made_from_the_description_the_server_gives()
    {
        var served = System.Text.Json.Nodes.JsonNode.Parse(await server.Anonymous().GetStringAsync("api/openapi.json"))!;
        var kept = System.Text.Json.Nodes.JsonNode.Parse(await File.ReadAllTextAsync(Path.Combine(Repository.Root, "web/src/api/openapi.json")))!;
        if (!System.Text.Json.Nodes.JsonNode.DeepEquals(served, kept))
            await File.WriteAllTextAsync(Path.Combine(Path.GetTempPath(), "openapi-served.json"), served.ToJsonString());
        System.Text.Json.Nodes.JsonNode.DeepEquals(served, kept).ShouldBeTrue(
            "web/src/api/openapi.json is not what the server describes. Start it, fetch /api/openapi.json into that file and run: npm --prefix web run api");
    }
}

/// <summary>The checkout the tests run from.</summary>
public static class Repository
{
    public static string Root { get; } = Find(AppContext.BaseDirectory);

    private static string Find(string folder) => File.Exists(Path.Combine(folder, "Skevin.slnx")) ? folder : Find(Path.GetDirectoryName(folder)!);
}
