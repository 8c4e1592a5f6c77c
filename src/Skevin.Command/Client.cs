using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Skevin.Command;

/// <summary>A signed-in client of the API.</summary>
public sealed class Client : IDisposable
{
    private readonly HttpClient _http;

    private Client(Uri server) => _http = new HttpClient(new SocketsHttpHandler { CookieContainer = new CookieContainer() }) { BaseAddress = server };

    /// <summary>Signs in.</summary>
    /// <exception cref="CommandException">The server does not answer or refuses.</exception>
    public static async Task<Client> SignIn(Uri server, string email, string password)
    {
        var client = new Client(server);
        await client.Send(HttpMethod.Post, "api/session", new { email, password });
        return client;
    }

    /// <summary>Gets JSON.</summary>
    public Task<JsonNode?> Get(string path) => Send(HttpMethod.Get, path, null);

    /// <summary>Sends JSON and gets the answer.</summary>
    public Task<JsonNode?> Post(string path, object body) => Send(HttpMethod.Post, path, body);

    /// <summary>Puts JSON and gets the answer.</summary>
    public Task<JsonNode?> Put(string path, object body) => Send(HttpMethod.Put, path, body);

    /// <inheritdoc/>
    public void Dispose() => _http.Dispose();

    private async Task<JsonNode?> Send(HttpMethod method, string path, object? body)
    {
        try
        {
            using var request = new HttpRequestMessage(method, path);
            if (body is not null)
                request.Content = JsonContent.Create(body);
            using var answer = await _http.SendAsync(request);
            var text = await answer.Content.ReadAsStringAsync();
            var json = text.Length > 0 && answer.Content.Headers.ContentType?.MediaType?.Contains("json") == true ? JsonNode.Parse(text) : null;
            if (answer.IsSuccessStatusCode)
                return json;
            throw new CommandException($"{json?["title"] ?? $"The server answered {(int)answer.StatusCode}."} {json?["detail"]}", (int)answer.StatusCode);
        }
        catch (HttpRequestException away)
        {
            throw new CommandException($"No answer from {_http.BaseAddress}: {away.Message}", 0);
        }
        catch (JsonException)
        {
            throw new CommandException("The answer is not JSON. Is this the address of a Skevin server?", 0);
        }
    }
}

/// <summary>Something a person at the command line can act on.</summary>
public sealed class CommandException(string message, int status) : Exception(message)
{
    /// <summary>HTTP status, 0 where there was no answer.</summary>
    public int Status { get; } = status;
}
