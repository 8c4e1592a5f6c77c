using System.Net;
using System.Net.Http.Json;
using System.Net.Sockets;
using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Identity;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;
using Skevin.Core.Access;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Server.Tests;

/// <summary>A database of its own on the PostgreSQL the test command has started.</summary>
public static class TestDatabase
{
    /// <summary>Connection to that PostgreSQL; ./test sets it.</summary>
    private static string Base => Environment.GetEnvironmentVariable("SKEVIN_TEST_POSTGRES")
        ?? throw new InvalidOperationException("SKEVIN_TEST_POSTGRES is not set. Run ./test, or point it at a PostgreSQL.");

    /// <summary>Makes an empty database and returns its connection.</summary>
    public static async Task<string> Make()
    {
        var name = "t" + Guid.NewGuid().ToString("N");
        await using var connection = new NpgsqlConnection(new NpgsqlConnectionStringBuilder(Base) { Database = "postgres", Pooling = false }.ConnectionString);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand($"create database {name}", connection);
        await command.ExecuteNonQueryAsync();
        return new NpgsqlConnectionStringBuilder(Base) { Database = name, MaxPoolSize = 20 }.ConnectionString;
    }

    private static readonly System.Collections.Concurrent.ConcurrentDictionary<int, bool> Given = new();

    /// <summary>Ports of loopback that are free now, next to each other.</summary>
    public static int FreePorts(int count)
    {
        for (var attempt = 0; attempt < 200; attempt++)
        {
            // Below those the system gives to outgoing connections, and each of them once: what is free now is taken a little later.
            var first = Random.Shared.Next(20_000, 32_000);
            if (Enumerable.Range(first, count).All(port => IsFree(port) && Given.TryAdd(port, true)))
                return first;
        }
        throw new InvalidOperationException("No free ports.");
    }

    private static bool IsFree(int port)
    {
        try
        {
            using var listener = new TcpListener(IPAddress.Loopback, port);
            listener.Start();
            return true;
        }
        catch (SocketException)
        {
            return false;
        }
    }
}

/// <summary>A whole server in this process, with people of every role.</summary>
public class RunningServer : IAsyncLifetime
{
    private WebApplication? _app;

    public string Database { get; private set; } = "";
    public Uri Address { get; private set; } = null!;
    public int GrpcPort { get; } = TestDatabase.FreePorts(1);
    public int PracticePort { get; } = TestDatabase.FreePorts(4);

    /// <summary>Where it looks for its mail server.</summary>
    public int MailPort { get; } = TestDatabase.FreePorts(1);
    public IServiceProvider Services => _app!.Services;

    /// <summary>How often it keeps what it measures of itself. Not at all, so that what tests count is theirs.</summary>
    protected virtual int OwnTelemetrySeconds => 0;

    /// <summary>Everything, as a keeper of the whole.</summary>
    public HttpClient Keeper { get; private set; } = null!;

    /// <summary>Gives the database it runs on.</summary>
    protected virtual Task<string> MakeDatabase() => TestDatabase.Make();

    public virtual async ValueTask InitializeAsync()
    {
        Database = await MakeDatabase();
        var port = TestDatabase.FreePorts(1);
        Address = new Uri($"http://127.0.0.1:{port}");
        _app = SkevinApp.Build([], new Dictionary<string, string?>
        {
            ["SKEVIN_PORT"] = port.ToString(), ["SKEVIN_OTLP_GRPC_PORT"] = GrpcPort.ToString(), ["SKEVIN_DATABASE"] = Database, ["SKEVIN_DEMO"] = "1", ["SKEVIN_PRACTICE_PORT"] = PracticePort.ToString(), ["SKEVIN_OWN_TELEMETRY_SECONDS"] = OwnTelemetrySeconds.ToString(), ["SKEVIN_RETENTION_DAYS"] = "30", ["SKEVIN_SMTP"] = $"smtp://127.0.0.1:{MailPort}", ["SKEVIN_MAIL_FROM"] = "skevin@larkfield.example",
        });
        await Services.GetRequiredService<Preparation>().Run(CancellationToken.None);
        await _app.StartAsync();
        Keeper = await SignIn(SkevinOptions.DemoPerson, "falling-clock");
    }

    public virtual async ValueTask DisposeAsync()
    {
        if (_app is not null)
        {
            await _app.StopAsync();
            await _app.DisposeAsync();
        }
        GC.SuppressFinalize(this);
    }

    public async Task<HttpClient> SignIn(string email, string password)
    {
        var client = Anonymous();
        (await client.PostAsJsonAsync("api/session", new { email, password })).StatusCode.ShouldBe(HttpStatusCode.NoContent);
        return client;
    }

    public HttpClient Anonymous() => new(new SocketsHttpHandler { CookieContainer = new CookieContainer() }) { BaseAddress = Address };

    /// <summary>Makes a person and signs them in.</summary>
    public async Task<HttpClient> Person(Roles roles, List<string>? clusters = null, List<string>? namespaces = null)
    {
        await using var scope = Services.CreateAsyncScope();
        var email = Guid.NewGuid().ToString("N") + "@larkfield.example";
        var made = await scope.ServiceProvider.GetRequiredService<UserManager<Person>>().CreateAsync(
            new Person { UserName = email, Email = email, Name = "T. Linnet", Roles = roles, Clusters = clusters, Namespaces = namespaces }, "long-enough-password");
        made.Succeeded.ShouldBeTrue();
        return await SignIn(email, "long-enough-password");
    }

    /// <summary>Gives a cluster that nobody watches, for data alone, and a token for it.</summary>
    public async Task<(int Cluster, string Token)> ClusterWithToken(string name)
    {
        await using var scope = Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<SkevinContext>();
        var row = new ClusterRow { Name = name, ProtectedKubeconfig = "", Address = "", ConnectedBy = "test", ConnectedAt = DateTimeOffset.UtcNow };
        context.Clusters.Add(row);
        await context.SaveChangesAsync();
        var (_, token) = await Services.GetRequiredService<Skevin.Server.Ingest.IngestTokens>().Make("test", row.Id, false, null, "test", CancellationToken.None);
        return (row.Id, token);
    }
}

/// <summary>Short ways to talk to the API in tests.</summary>
public static class ApiCalls
{
    /// <summary>Gets JSON and expects success.</summary>
    public static async Task<JsonNode> Json(this HttpClient client, string path)
    {
        using var answer = await client.GetAsync(path);
        var text = await answer.Content.ReadAsStringAsync();
        answer.IsSuccessStatusCode.ShouldBeTrue($"GET {path}: {(int)answer.StatusCode} {text}");
        return JsonNode.Parse(text)!;
    }

    /// <summary>Posts JSON and expects success.</summary>
    public static async Task<JsonNode?> Send(this HttpClient client, string path, object body, HttpMethod? method = null)
    {
        using var request = new HttpRequestMessage(method ?? HttpMethod.Post, path) { Content = JsonContent.Create(body) };
        using var answer = await client.SendAsync(request);
        var text = await answer.Content.ReadAsStringAsync();
        answer.IsSuccessStatusCode.ShouldBeTrue($"{request.Method} {path}: {(int)answer.StatusCode} {text}");
        return text.Length == 0 ? null : JsonNode.Parse(text);
    }

    /// <summary>Asks an enquiry.</summary>
    public static async Task<JsonNode> Ask(this HttpClient client, string text, DateTimeOffset from, DateTimeOffset to, string? cluster = null) =>
        (await client.Send("api/ask", new { text, from, to, cluster }))!;

    /// <summary>Waits until something holds, and says what it last was.</summary>
    public static async Task<T> Until<T>(Func<Task<T>> look, Func<T, bool> holds, int seconds, string what)
    {
        var end = DateTime.UtcNow.AddSeconds(seconds);
        while (true)
        {
            var seen = await look();
            if (holds(seen))
                return seen;
            (DateTime.UtcNow < end).ShouldBeTrue($"waited {seconds} s for {what}; last seen: {(seen is JsonNode node ? node.ToJsonString() : seen?.ToString())}");
            await Task.Delay(250);
        }
    }
}
