using System.Net;
using System.Net.Http.Headers;
using Skevin.Core.Collection;

namespace Skevin.Agent.Collection;

/// <summary>
/// Gets the plan of a machine's agent from its server and keeps it beside the buffer, so that the agent collects after a start without
/// its server too.
/// </summary>
public sealed class PlanFetch(AgentEnvironment environment, HttpClient http)
{
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(30);
    private static readonly TimeSpan Again = TimeSpan.FromSeconds(5);
    private DateTimeOffset _next;

    /// <summary>Asks where it is time.</summary>
    /// <param name="revision">The revision at hand; 0 for none.</param>
    /// <returns>Why it did not get an answer; null where it did, or did not ask.</returns>
    public async Task<string?> Run(int revision, CancellationToken stop)
    {
        var now = environment.Clock.GetUtcNow();
        if (environment.Server is not { } server || now < _next)
            return null;
        _next = now + Again;
        try
        {
            using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
            patience.CancelAfter(TimeSpan.FromSeconds(10));
            using var request = new HttpRequestMessage(HttpMethod.Get, new Uri(server, MachineSetup.ConfigurationPath));
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", (await File.ReadAllTextAsync(environment.TokenFile, patience.Token)).Trim());
            request.Headers.TryAddWithoutValidation("If-None-Match", $"\"{revision}\"");
            using var answer = await http.SendAsync(request, patience.Token);
            if (answer.StatusCode == HttpStatusCode.OK)
            {
                var text = await answer.Content.ReadAsStringAsync(patience.Token);
                Directory.CreateDirectory(Path.GetDirectoryName(environment.ConfigurationFile)!);
                await File.WriteAllTextAsync(environment.ConfigurationFile + ".new", text, patience.Token);
                File.Move(environment.ConfigurationFile + ".new", environment.ConfigurationFile, overwrite: true);
            }
            else if (answer.StatusCode != HttpStatusCode.NotModified)
            {
                return $"The server does not give the plan: {(int)answer.StatusCode} {(await answer.Content.ReadAsStringAsync(patience.Token)).Trim()}";
            }
            _next = now + Every;
            return null;
        }
        catch (Exception trouble) when (ClusterAccess.IsTrouble(trouble, stop))
        {
            return $"The server does not give the plan: {trouble.Message}";
        }
    }
}
