using System.Net.Http.Headers;
using Google.Protobuf;
using Microsoft.AspNetCore.Builder;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using Npgsql;
using Skevin.Core.Access;
using Skevin.Core.Query.Language;
using Skevin.Core.Query.Run;
using Skevin.Server.Ask;
using Skevin.Server.Ingest;
using Skevin.Server.Setup;
using Skevin.Storage;

namespace Skevin.Bench;

/// <summary>A whole server with a database of its own, and ways to push to it and ask it.</summary>
public sealed class BenchServer : IAsyncDisposable
{
    /// <summary>The cluster that is filled.</summary>
    public const string Cluster = "larkfield-north";

    private readonly WebApplication _app;
    private readonly HttpClient _client;
    private readonly string _token;

    private BenchServer(WebApplication app, HttpClient client, string token, NpgsqlDataSource database) => (_app, _client, _token, Database) = (app, client, token, database);

    /// <summary>Its database.</summary>
    public NpgsqlDataSource Database { get; }

    /// <summary>Its services.</summary>
    public IServiceProvider Services => _app.Services;

    /// <summary>Starts it on a free database.</summary>
    public static async Task<BenchServer> Start(string database, int port)
    {
        var app = SkevinApp.Build([], new Dictionary<string, string?> { ["SKEVIN_PORT"] = port.ToString(), ["SKEVIN_OTLP_GRPC_PORT"] = "0", ["SKEVIN_DATABASE"] = database, ["SKEVIN_RETENTION_DAYS"] = "30" });
        await app.Services.GetRequiredService<Preparation>().Run(CancellationToken.None);
        await app.StartAsync();
        await using var scope = app.Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<SkevinContext>();
        var row = new ClusterRow { Name = Cluster, ProtectedKubeconfig = "", Address = "", ConnectedBy = "bench", ConnectedAt = DateTimeOffset.UtcNow };
        context.Clusters.Add(row);
        await context.SaveChangesAsync();
        var (_, token) = await app.Services.GetRequiredService<IngestTokens>().Make("bench", row.Id, false, null, "bench", CancellationToken.None);
        return new BenchServer(app, new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{port}"), Timeout = TimeSpan.FromMinutes(5) }, token, NpgsqlDataSource.Create(database));
    }

    /// <summary>Pushes requests, fifty at a time: an agent a node, each with one request on its way.</summary>
    /// <returns>Seconds until the last was accepted.</returns>
    public async Task<double> Push(string path, string type, IReadOnlyList<byte[]> requests)
    {
        Console.WriteLine($"  pushing {requests.Count:N0} requests to {path}");
        var watch = System.Diagnostics.Stopwatch.StartNew();
        await Parallel.ForEachAsync(requests, new ParallelOptions { MaxDegreeOfParallelism = 50 }, async (request, stop) =>
        {
            while (true)
            {
                using var message = new HttpRequestMessage(HttpMethod.Post, path) { Content = new ByteArrayContent(request) };
                message.Content.Headers.ContentType = new MediaTypeHeaderValue(type);
                message.Headers.Authorization = new AuthenticationHeaderValue("Bearer", _token);
                using var answer = await _client.SendAsync(message, stop);
                if (answer.IsSuccessStatusCode)
                    return;
                if ((int)answer.StatusCode is not (429 or 503))
                    throw new InvalidOperationException($"{path}: {(int)answer.StatusCode} {await answer.Content.ReadAsStringAsync(stop)}");
                await Task.Delay(50, stop);
            }
        });
        return watch.Elapsed.TotalSeconds;
    }

    /// <inheritdoc cref="Push(string, string, IReadOnlyList{byte[]})"/>
    public Task<double> Push(string path, IEnumerable<IMessage> requests) => Push(path, "application/x-protobuf", [.. requests.Select(request => request.ToByteArray())]);

    /// <summary>Answers an enquiry, as the API does before it writes JSON.</summary>
    public Task<Answer> Ask(string text, DateTimeOffset from, DateTimeOffset to) => EnquiryRunner.Run(
        Parser.Read(text), null, new Window(from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds()), Services.GetRequiredService<AskEnquiry>().ReaderFor(AccessScope.Everything, Cluster), new Limits(), CancellationToken.None);

    /// <summary>Runs a command.</summary>
    public async Task Run(string sql)
    {
        await using var command = Database.CreateCommand(sql);
        command.CommandTimeout = 600;
        await command.ExecuteNonQueryAsync();
    }

    /// <summary>One value.</summary>
    public async Task<T> Value<T>(string sql)
    {
        await using var command = Database.CreateCommand(sql);
        command.CommandTimeout = 600;
        return (T)(await command.ExecuteScalarAsync())!;
    }

    /// <summary>Bytes on disk of tables with their partitions, indexes and large values.</summary>
    public Task<long> Size(params string[] tables) => Value<long>(
        $"select coalesce(sum(pg_total_relation_size(inhrelid)), 0)::bigint from pg_inherits where inhparent = any(array[{string.Join(", ", tables.Select(table => $"'{table}'"))}]::regclass[])");

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await Database.DisposeAsync();
        _client.Dispose();
        await _app.StopAsync();
        await _app.DisposeAsync();
    }
}
