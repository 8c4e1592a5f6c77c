using System.Diagnostics;
using OpenTelemetry;
using OpenTelemetry.Exporter;
using OpenTelemetry.Logs;
using OpenTelemetry.Resources;
using OpenTelemetry.Trace;
using Microsoft.Extensions.Logging;

namespace Skevin.Server.Tests.Signals;

/// <summary>A sender made elsewhere: NuGet's OpenTelemetry SDK pushes spans and log records to the server unchanged.</summary>
public sealed class SdkTests(RunningServer server) : IClassFixture<RunningServer>
{
    [Theory]
    [InlineData(OtlpExportProtocol.HttpProtobuf)]
    [InlineData(OtlpExportProtocol.Grpc)]
    public async Task Spans_and_logs_of_the_SDK_are_understood_and_belong_together(OtlpExportProtocol protocol)
    {
        var cluster = "sdk-" + protocol;
        var (_, token) = await server.ClusterWithToken(cluster);
        void Export(OtlpExporterOptions options, string path)
        {
            (options.Protocol, options.Endpoint, options.Headers) = (protocol, protocol == OtlpExportProtocol.Grpc ? new Uri($"http://127.0.0.1:{server.GrpcPort}") : new Uri(server.Address, path), "authorization=Bearer " + token);
            options.ExportProcessorType = ExportProcessorType.Simple;
        }
        using var source = new ActivitySource("larkfield.test");
        var resource = ResourceBuilder.CreateEmpty().AddService("weighbridge").AddAttributes([new("k8s.namespace.name", "intake")]);
        string trace;
        using (var traces = Sdk.CreateTracerProviderBuilder().SetResourceBuilder(resource).AddSource("larkfield.test").AddOtlpExporter(options => Export(options, "/v1/traces")).Build())
        using (var factory = LoggerFactory.Create(logging => logging.AddOpenTelemetry(options =>
        {
            options.SetResourceBuilder(resource);
            options.IncludeFormattedMessage = true;
            options.AddOtlpExporter(export => Export(export, "/v1/logs"));
        })))
        {
            using var parent = source.StartActivity("weigh", ActivityKind.Server)!;
            trace = parent.TraceId.ToHexString();
            using (var child = source.StartActivity("store", ActivityKind.Client)!)
            {
                child.AddException(new TimeoutException("no answer from lot-registry"));
                child.SetStatus(ActivityStatusCode.Error, "no answer");
            }
            factory.CreateLogger("scales").LogError("lot {Lot} was not stored", "A-7");
        }
        var view = await ApiCalls.Until(() => server.Keeper.GetAsync("api/traces/" + trace), answer => answer.IsSuccessStatusCode, 20, "the trace");
        var spans = System.Text.Json.Nodes.JsonNode.Parse(await view.Content.ReadAsStringAsync())!["spans"]!.AsArray();
        spans.Select(span => ((string)span!["name"]!, (string)span["kind"]!, (string)span["status"]!)).ShouldBe([("weigh", "server", "unset"), ("store", "client", "error")], ignoreOrder: true);
        ((string)spans.Single(span => (string)span!["name"]! == "store")!["exception"]!["message"]!).ShouldBe("no answer from lot-registry");
        var lines = await server.Keeper.Ask($"logs -> where trace = \"{trace}\" and level = \"error\" and Lot = \"A-7\" -> show text, service", DateTimeOffset.UtcNow.AddMinutes(-5), DateTimeOffset.UtcNow.AddMinutes(1), cluster);
        lines["rows"]!.AsArray().ShouldHaveSingleItem()!.ToJsonString().ShouldBe("[\"lot A-7 was not stored\",\"weighbridge\"]");
    }
}
