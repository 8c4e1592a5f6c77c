using System.IO.Compression;
using System.Net.Http.Headers;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Trace.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Trace.V1;
using Skevin.Core.Formats.Otlp;
using Skevin.StandIn.Model;

namespace Skevin.StandIn.Telemetry;

/// <summary>Sends each pod's spans to the agent on its node, as the SDK in the pod would: OTLP over HTTP, kept while nobody answers.</summary>
/// <param name="telemetry">Where spans wait.</param>
/// <param name="agentOn">Loopback port of the agent on a node; null while there is none.</param>
public sealed class SpanExporter(ClusterTelemetry telemetry, Func<string, int?> agentOn)
{
    private const int SpansARequest = 512;
    private static readonly HttpClient Http = new() { Timeout = TimeSpan.FromSeconds(10) };

    /// <summary>Sends what is waiting.</summary>
    public Task Flush(CancellationToken stop) => Task.WhenAll(telemetry.TakeSpans().Select(async waiting =>
    {
        var (pod, spans) = waiting;
        for (var at = 0; at < spans.Count; at += SpansARequest)
            if (agentOn(pod.Node) is not { } port || !await Send(port, pod, spans.GetRange(at, Math.Min(SpansARequest, spans.Count - at)), stop))
            {
                telemetry.PutBack(pod, spans[at..]);
                return;
            }
    }));

    private static async Task<bool> Send(int port, SimPod pod, List<OpenTelemetry.Proto.Trace.V1.Span> spans, CancellationToken stop)
    {
        var resource = new ResourceSpans { Resource = new() };
        OtlpAttributes.Write(resource.Resource.Attributes, ClusterTelemetry.ResourceOf(pod));
        var scope = new ScopeSpans { Scope = new InstrumentationScope { Name = "larkfield.http" } };
        scope.Spans.AddRange(spans);
        resource.ScopeSpans.Add(scope);
        var request = new ExportTraceServiceRequest();
        request.ResourceSpans.Add(resource);
        using var packed = new MemoryStream();
        using (var zip = new GZipStream(packed, CompressionLevel.Fastest, leaveOpen: true))
            request.WriteTo(zip);
        try
        {
            using var message = new HttpRequestMessage(HttpMethod.Post, $"http://127.0.0.1:{port}/v1/traces") { Content = new ByteArrayContent(packed.ToArray()) };
            message.Content.Headers.ContentType = new MediaTypeHeaderValue("application/x-protobuf");
            message.Content.Headers.ContentEncoding.Add("gzip");
            using var answer = await Http.SendAsync(message, stop);
            // What is refused for good is not sent again. Source: OTLP specification, "Failures".
            return answer.IsSuccessStatusCode || (int)answer.StatusCode is >= 400 and < 500 and not (408 or 429);
        }
        catch (Exception away) when (away is HttpRequestException or IOException || (away is OperationCanceledException && !stop.IsCancellationRequested))
        {
            return false;
        }
    }
}
