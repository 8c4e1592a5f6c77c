using System.Net.Http.Json;
using Microsoft.AspNetCore.Http.HttpResults;
using Skevin.Core.Access;
using Skevin.Server.Access;
using Skevin.Server.People;
using Skevin.Server.Setup;

namespace Skevin.Server.Practice;

/// <summary>A fault of the practice cluster.</summary>
public sealed record FaultView(string Name, string Title, bool On);

/// <summary>Switches a fault.</summary>
public sealed record FaultSwitch(bool On);

/// <summary>The practice cluster's clock.</summary>
/// <param name="Now">Its time.</param>
/// <param name="CatchingUp">Whether the past is still being made.</param>
/// <param name="Past">How far the coarser days before are made, while they are.</param>
public sealed record PracticeClock(DateTimeOffset Now, DateTimeOffset Begun, bool CatchingUp, PracticePast? Past);

/// <summary>The coarser days of the practice cluster's past.</summary>
public sealed record PracticePast(DateTimeOffset From, DateTimeOffset To, DateTimeOffset Now);

/// <summary>Faults of the stand-in; only in demo mode.</summary>
public static class PracticeEndpoints
{
    /// <summary>Adds the client of the stand-in's control.</summary>
    public static void AddPractice(this IServiceCollection services, SkevinOptions options) =>
        services.AddHttpClient("practice", client => (client.BaseAddress, client.Timeout) = (new Uri($"http://127.0.0.1:{options.PracticePort + 3}"), TimeSpan.FromSeconds(5)));

    /// <summary>Maps them.</summary>
    public static void MapPractice(this IEndpointRouteBuilder routes, SkevinOptions options)
    {
        if (!options.Demo)
            return;
        routes.MapGet("/api/practice/faults", (IHttpClientFactory clients, CancellationToken stop) => Get<FaultView[]>(clients, "faults", stop)).Needs(Roles.Reader);
        routes.MapGet("/api/practice/clock", (IHttpClientFactory clients, CancellationToken stop) => Get<PracticeClock>(clients, "clock", stop)).Needs(Roles.Reader);
        routes.MapPut("/api/practice/faults/{name}", async Task<Results<NoContent, ProblemHttpResult>> (string name, FaultSwitch body, IHttpClientFactory clients, AuditNote note, CancellationToken stop) =>
        {
            note.Detail = body.On ? "on" : "off";
            try
            {
                using var client = clients.CreateClient("practice");
                using var answer = await client.PutAsJsonAsync($"faults/{Uri.EscapeDataString(name)}", body, stop);
                return answer.IsSuccessStatusCode ? TypedResults.NoContent()
                    : new Problem(404, "No such fault, or nothing it could change.", "Faults that change the agents' objects need a rolled-out plan.").Http();
            }
            catch (HttpRequestException)
            {
                return Away.Http();
            }
        }).Needs(Roles.Installer).Audits("switched a practice fault");
    }

    private static readonly Problem Away = new(503, "The practice cluster does not answer.", "Start it again with ./start.");

    private static async Task<Results<Ok<T>, ProblemHttpResult>> Get<T>(IHttpClientFactory clients, string path, CancellationToken stop)
    {
        try
        {
            using var client = clients.CreateClient("practice");
            return TypedResults.Ok(await client.GetFromJsonAsync<T>(path, stop));
        }
        catch (Exception trouble) when (trouble is HttpRequestException or TaskCanceledException)
        {
            return Away.Http();
        }
    }
}
