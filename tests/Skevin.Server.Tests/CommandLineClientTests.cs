using System.Diagnostics;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json.Nodes;

namespace Skevin.Server.Tests;

/// <summary>
/// The same way with a second client of the cluster API, built by others and in another language: kubectl of Debian's package
/// kubernetes-client. It sends credentials over TLS alone, so TLS stands before the stand-in here.
/// </summary>
public sealed class CommandLineClientTests(ServerWithStandIn server) : IClassFixture<ServerWithStandIn>
{
    private const string South = "larkfield-south";
    private readonly string _folder = Directory.CreateTempSubdirectory("skevin-kubectl").FullName;

    [Fact]
    public async Task Manifests_are_applied_read_and_taken_away_and_what_they_start_sends()
    {
        using var stop = new CancellationTokenSource();
        var kubeconfig = Path.Combine(_folder, "kubeconfig");
        var http = server.PracticePort + 1;
        await File.WriteAllTextAsync(kubeconfig, server.Kubeconfig(South).Replace($"http://127.0.0.1:{http}", $"https://127.0.0.1:{await TlsBefore(http, stop.Token)}"));
        async Task<string> Kubectl(params string[] arguments)
        {
            var (code, output) = await Run(["--kubeconfig", kubeconfig, "--insecure-skip-tls-verify=true", "--cache-dir", Path.Combine(_folder, "cache"), .. arguments]);
            code.ShouldBe(0, $"kubectl {string.Join(' ', arguments)}: {output}");
            return output;
        }
        (await Kubectl("get", "nodes", "-o", "name")).Split('\n', StringSplitOptions.RemoveEmptyEntries).Length.ShouldBe(3);
        (await Kubectl("get", "pods", "-n", "auction", "-l", "app.kubernetes.io/name=ledger", "-o", "jsonpath={.items[*].status.phase}")).ShouldBe("Running Running Running");

        await server.Keeper.Send("api/clusters", new { kubeconfig = server.Kubeconfig(South) });
        await ApiCalls.Until(() => server.Keeper.Json("api/clusters/" + South), view => (bool)view["complete"]!, 30, "the inventory");
        var plan = new { metrics = new { resourceUsage = true, clusterState = true, endpoints = true, everySeconds = 5, endpointPort = "metrics", endpointPath = "/metrics" }, traces = new { share = 0.1, tail = new { waitSeconds = 5, failed = true } } };
        var manifests = (string)(await server.Keeper.Send($"api/clusters/{South}/collection/manifests", new { plan }))!["yaml"]!;
        var token = (string)(await server.Keeper.Send("api/tokens", new { name = "by hand", cluster = South }))!["token"]!;
        var file = Path.Combine(_folder, "plan.yaml");
        await File.WriteAllTextAsync(file, manifests);
        // The stand-in gives no schema to check against; the published one is held against them by ManifestSchemaTests.
        await Kubectl("apply", "--validate=false", "-f", file);
        var secret = Path.Combine(_folder, "secret.yaml");
        await File.WriteAllTextAsync(secret, "apiVersion: v1\nkind: Secret\nmetadata: {name: skevin-ingest, namespace: skevin-agents}\nstringData: {token: " + token + "}\n");
        await Kubectl("apply", "--validate=false", "-f", secret);
        (await ApiCalls.Until(() => Kubectl("get", "daemonset", "skevin-agent", "-n", "skevin-agents", "-o", "jsonpath={.status.numberReady}"), ready => ready == "3", 60, "three agents")).ShouldBe("3");
        (await Kubectl("get", "pods", "-n", "skevin-agents", "--no-headers")).Split('\n', StringSplitOptions.RemoveEmptyEntries).Length.ShouldBe(5);
        (await Kubectl("get", "service", "skevin-traces", "-n", "skevin-agents", "-o", "jsonpath={.spec.ports[0].port}")).ShouldBe("4318");
        // Applied once more, nothing is changed.
        (await Kubectl("apply", "--validate=false", "-f", file)).Split('\n', StringSplitOptions.RemoveEmptyEntries).ShouldAllBe(line => line.EndsWith("unchanged", StringComparison.Ordinal));
        var now = DateTimeOffset.UtcNow;
        await ApiCalls.Until(async () =>
        {
            using var answer = await server.Keeper.PostAsync("api/ask", System.Net.Http.Json.JsonContent.Create(new { text = "k8s.node.cpu.time -> rate -> sum by node", from = now.AddMinutes(-3), to = now.AddMinutes(3), cluster = South }));
            return answer.IsSuccessStatusCode ? JsonNode.Parse(await answer.Content.ReadAsStringAsync())!["series"]!.AsArray().Count : 0;
        }, count => count == 3, 60, "the usage of all nodes");
        await Kubectl("delete", "--ignore-not-found", "--wait=false", "-f", file);
        (await ApiCalls.Until(() => Kubectl("get", "pods", "-n", "skevin-agents", "--no-headers", "--ignore-not-found"), pods => pods.Trim().Length == 0 || pods.Contains("No resources"), 30, "no pod of theirs")).Trim().ShouldBeOneOf("", "No resources found in skevin-agents namespace.");
        await stop.CancelAsync();
    }

    private static async Task<(int Code, string Output)> Run(string[] arguments)
    {
        using var process = Process.Start(new ProcessStartInfo("kubectl", arguments) { RedirectStandardOutput = true, RedirectStandardError = true })!;
        var texts = await Task.WhenAll(process.StandardOutput.ReadToEndAsync(), process.StandardError.ReadToEndAsync());
        await process.WaitForExitAsync();
        return (process.ExitCode, process.ExitCode == 0 ? texts[0] : texts[0] + texts[1]);
    }

    // Ends TLS and passes the bytes on.
    private static Task<int> TlsBefore(int port, CancellationToken stop)
    {
        using var key = RSA.Create(2048);
        var request = new CertificateRequest("CN=127.0.0.1", key, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        using var made = request.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(1));
        var certificate = X509CertificateLoader.LoadPkcs12(made.Export(X509ContentType.Pkcs12), null);
        var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        _ = Task.Run(async () =>
        {
            using (listener)
                while (!stop.IsCancellationRequested)
                    _ = Pass(await listener.AcceptTcpClientAsync(stop));
        }, stop);
        return Task.FromResult(((IPEndPoint)listener.LocalEndpoint).Port);

        async Task Pass(TcpClient client)
        {
            using (client)
            using (var there = new TcpClient())
                try
                {
                    await using var outside = new SslStream(client.GetStream());
                    await outside.AuthenticateAsServerAsync(new SslServerAuthenticationOptions { ServerCertificate = certificate }, stop);
                    await there.ConnectAsync(IPAddress.Loopback, port, stop);
                    await Task.WhenAny(outside.CopyToAsync(there.GetStream(), stop), there.GetStream().CopyToAsync(outside, stop));
                }
                catch (Exception ended) when (ended is IOException or OperationCanceledException or SocketException or System.Security.Authentication.AuthenticationException)
                {
                    // The client has gone.
                }
        }
    }
}
