using System.Collections.Concurrent;
using System.Diagnostics;
using System.Net.Http.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;
using Npgsql;
using Skevin.Agent.Buffer;

namespace Skevin.Server.Tests;

/// <summary>Pulls the plug.</summary>
public sealed class KillTests
{
    private static Process Start(string database, int port)
    {
        var start = new ProcessStartInfo("dotnet", Path.Combine(AppContext.BaseDirectory, "Skevin.Server.dll")) { RedirectStandardOutput = true, RedirectStandardError = true };
        start.Environment["SKEVIN_DATABASE"] = database;
        start.Environment["SKEVIN_PORT"] = port.ToString();
        start.Environment["SKEVIN_OTLP_GRPC_PORT"] = "0";
        start.Environment["SKEVIN_DEMO"] = "1";
        var process = Process.Start(start)!;
        process.OutputDataReceived += (_, _) => { };
        process.ErrorDataReceived += (_, _) => { };
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        return process;
    }

    private static async Task Ready(HttpClient client) => await ApiCalls.Until(async () =>
    {
        try
        {
            return (await client.GetAsync("health/ready")).IsSuccessStatusCode;
        }
        catch (HttpRequestException)
        {
            return false;
        }
    }, ready => ready, 60, "the server to be ready");

    [Fact]
    public async Task Killed_in_mid_ingest_the_server_loses_nothing_accepted_and_doubles_nothing()
    {
        const int Senders = 6;
        const int Requests = 60;
        var database = await TestDatabase.Make();
        var port = TestDatabase.FreePorts(1);
        using var client = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{port}"), Timeout = TimeSpan.FromSeconds(20) };
        var process = Start(database, port);
        try
        {
            await Ready(client);
            await using var connection = new NpgsqlConnection(database);
            await connection.OpenAsync();
            const string Token = "skv_kill";
            await using (var insert = new NpgsqlCommand("""
                insert into cluster (name, protected_kubeconfig, address, connected_at, connected_by) values ('c', '', '', now(), 't');
                insert into ingest_token (id, name, cluster_id, hash, for_agents, created_at, created_by) select gen_random_uuid(), 't', id, sha256(@token), false, now(), 't' from cluster;
                """, connection))
            {
                insert.Parameters.AddWithValue("token", System.Text.Encoding.UTF8.GetBytes(Token));
                await insert.ExecuteNonQueryAsync();
            }
            var begin = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60).AddHours(-1);
            var accepted = 0;
            // Each sender repeats a request, with its key, until it is accepted: what an agent does.
            var sending = Task.WhenAll(Enumerable.Range(0, Senders).Select(async sender =>
            {
                for (var number = 0; number < Requests; number++)
                {
                    var points = Enumerable.Range(0, 10).Select(i => (begin.AddSeconds(number * 10 + i), (double)number));
                    var request = OtlpBuilder.Request("kill", "1", false, points, ("sender", $"s{sender}"));
                    while (true)
                    {
                        try
                        {
                            using var answer = await client.Push(Token, request, $"{sender}-{number}");
                            if (answer.IsSuccessStatusCode)
                                break;
                        }
                        catch (Exception away) when (away is HttpRequestException or TaskCanceledException)
                        {
                            // Killed; come again.
                        }
                        await Task.Delay(50);
                    }
                    Interlocked.Increment(ref accepted);
                }
            }));
            for (var kill = 0; kill < 3; kill++)
            {
                var goal = (kill + 1) * Senders * Requests / 5;
                await ApiCalls.Until(() => Task.FromResult(Volatile.Read(ref accepted)), count => count >= goal, 60, "requests to be accepted");
                process.Kill();
                await process.WaitForExitAsync();
                process = Start(database, port);
                await Ready(client);
            }
            await sending;

            await using var count = new NpgsqlCommand("select sum(samples), (select count(*) from ingest_key) from sample_batch", connection);
            await using (var reader = await count.ExecuteReaderAsync())
            {
                await reader.ReadAsync();
                reader.GetInt64(0).ShouldBe(Senders * Requests * 10);
                reader.GetInt64(1).ShouldBe(Senders * Requests);
            }
            // And it is answered from the head that the batch rows rebuilt.
            (await client.PostAsJsonAsync("api/session", new { email = "amsel@larkfield.example", password = "falling-clock" })).IsSuccessStatusCode.ShouldBeTrue();
            var answered = await client.Ask("kill -> count every 1s", begin.AddSeconds(-1), begin.AddSeconds(Requests * 10 - 1), "c");
            answered["series"]![0]!["points"]!.AsArray().ShouldAllBe(point => (double?)point![1] == Senders);
        }
        finally
        {
            process.Kill();
        }
    }

    [Fact]
    public async Task Killed_between_alarm_and_message_the_server_tells_each_transition_under_one_id_and_records_it_once()
    {
        var database = await TestDatabase.Make();
        var port = TestDatabase.FreePorts(1);
        using var client = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{port}"), Timeout = TimeSpan.FromSeconds(20) };
        var keys = new ConcurrentQueue<string>();
        var answers = false;
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseSetting("urls", "http://127.0.0.1:0");
        await using var receiver = builder.Build();
        receiver.MapPost("/hook", async (HttpContext context) =>
        {
            keys.Enqueue(context.Request.Headers["Idempotency-Key"].ToString());
            // As long as the server lives it does not hear whether its message was taken.
            while (!Volatile.Read(ref answers) && !context.RequestAborted.IsCancellationRequested)
                await Task.Delay(50);
            return Results.Ok();
        });
        await receiver.StartAsync();
        var process = Start(database, port);
        try
        {
            await Ready(client);
            await using var connection = new NpgsqlConnection(database);
            await connection.OpenAsync();
            await using (var insert = new NpgsqlCommand("""
                insert into cluster (name, protected_kubeconfig, address, connected_at, connected_by) values ('c', '', '', now(), 't');
                insert into ingest_token (id, name, cluster_id, hash, for_agents, created_at, created_by) select gen_random_uuid(), 't', id, sha256('skv_kill'), false, now(), 't' from cluster;
                insert into contact (name, url) values ('slow', @url);
                insert into alarm_rule (id, cluster_id, name, document, in_force, owner_id, created_at, judged_to)
                    select gen_random_uuid(), cluster.id, 'r', '{"rule": "r", "when": "killed -> max", "above": "1", "every": "5s", "wait": "1s", "tell": ["slow"], "cluster": "c"}', true, person.id, now(), extract(epoch from now())::bigint * 1000
                    from cluster, "AspNetUsers" person;
                """, connection))
            {
                insert.Parameters.AddWithValue("url", receiver.Urls.First() + "/hook");
                await insert.ExecuteNonQueryAsync();
            }
            for (var kill = 0; kill < 2; kill++)
            {
                // Raised, then cleared: each time the server is killed while its message is under way.
                var (before, value) = (keys.Distinct().Count(), kill == 0 ? 5 : 0);
                await ApiCalls.Until(async () =>
                {
                    using var pushed = await client.Push("skv_kill", OtlpBuilder.Request("killed", "1", false, [(DateTimeOffset.UtcNow, value)]));
                    return keys.Distinct().Count();
                }, count => count > before, 60, "a message on its way");
                process.Kill();
                await process.WaitForExitAsync();
                Volatile.Write(ref answers, true);
                process = Start(database, port);
                await Ready(client);
                await using var waiting = new NpgsqlCommand("select count(*) from message where delivered_at is null", connection);
                await ApiCalls.Until(async () => (long)(await waiting.ExecuteScalarAsync())!, count => count == 0, 60, "the message to be told");
                Volatile.Write(ref answers, false);
            }
            keys.Distinct().Count().ShouldBe(2);
            keys.GroupBy(key => key).ShouldAllBe(attempts => attempts.Count() == 2, "once not heard, once again under the same id");
            await using var told = new NpgsqlCommand("select string_agg(e.transition::text || ' ' || (select count(*) from message m where m.event_id = e.id), ',' order by e.at) from alarm_event e", connection);
            ((string)(await told.ExecuteScalarAsync())!).ShouldBe("1 1,2 1");
        }
        finally
        {
            process.Kill();
        }
    }

    [Fact]
    public async Task A_batch_that_was_being_sealed_when_the_agent_was_killed_is_not_sent()
    {
        var folder = Directory.CreateTempSubdirectory("skevin-buffer").FullName;
        var buffer = new DiskBuffer(folder);
        var whole = buffer.Seal("metrics", "whole"u8, []);
        await File.WriteAllTextAsync(Path.Combine(folder, "0000000000000001_x_metrics.batch.part"), "half");
        var again = new DiskBuffer(folder);
        again.Count.ShouldBe(1);
        again.Oldest!.Key.ShouldBe(whole.Key);
        again.Seal("logs", "next"u8, []).Path.ShouldContain("0000000000000001_");
        again.Remove(whole);
        again.Oldest!.Signal.ShouldBe("logs");
        again.TrimTo(0).Count.ShouldBe(1);
        Directory.GetFiles(folder, "*.batch").ShouldBeEmpty();
    }
}
