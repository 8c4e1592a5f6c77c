using System.IO.Compression;
using System.Net.Http.Headers;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Metrics.V1;
using OpenTelemetry.Proto.Resource.V1;

namespace Skevin.Server.Tests;

/// <summary>Small OTLP requests for tests.</summary>
public static class OtlpBuilder
{
    /// <summary>A request with one gauge or counter and its points.</summary>
    public static ExportMetricsServiceRequest Request(string metric, string unit, bool counter, IEnumerable<(DateTimeOffset Time, double Value)> points, params (string, string)[] resource)
    {
        var data = points.Select(point => new NumberDataPoint { TimeUnixNano = (ulong)point.Time.ToUnixTimeMilliseconds() * 1_000_000, AsDouble = point.Value });
        var built = new Metric { Name = metric, Unit = unit };
        if (counter)
        {
            built.Sum = new Sum { IsMonotonic = true, AggregationTemporality = AggregationTemporality.Cumulative };
            built.Sum.DataPoints.AddRange(data);
        }
        else
        {
            built.Gauge = new Gauge();
            built.Gauge.DataPoints.AddRange(data);
        }
        var scope = new ScopeMetrics();
        scope.Metrics.Add(built);
        var owner = new ResourceMetrics { Resource = new Resource() };
        owner.Resource.Attributes.AddRange(Attributes(resource));
        owner.ScopeMetrics.Add(scope);
        var request = new ExportMetricsServiceRequest();
        request.ResourceMetrics.Add(owner);
        return request;
    }

    /// <summary>Attributes of a request.</summary>
    public static IEnumerable<KeyValue> Attributes(params (string, string)[] pairs) => pairs.Select(pair => new KeyValue { Key = pair.Item1, Value = new AnyValue { StringValue = pair.Item2 } });

    /// <summary>Pushes a request as protobuf.</summary>
    public static Task<HttpResponseMessage> Push(this HttpClient client, string? token, ExportMetricsServiceRequest request, string? key = null, bool gzip = true) =>
        client.PushTo("v1/metrics", "application/x-protobuf", token, request.ToByteArray(), key, gzip);

    /// <summary>Pushes spans or log records as protobuf.</summary>
    public static Task<HttpResponseMessage> Push(this HttpClient client, string? token, IMessage request, string? key = null) =>
        client.PushTo(request is OpenTelemetry.Proto.Collector.Trace.V1.ExportTraceServiceRequest ? "v1/traces" : "v1/logs", "application/x-protobuf", token, request.ToByteArray(), key);

    /// <summary>Pushes bytes.</summary>
    public static Task<HttpResponseMessage> PushTo(this HttpClient client, string path, string type, string? token, byte[] bytes, string? key = null, bool gzip = true)
    {
        if (gzip)
        {
            using var packed = new MemoryStream();
            using (var zip = new GZipStream(packed, CompressionLevel.Fastest))
                zip.Write(bytes);
            bytes = packed.ToArray();
        }
        var message = new HttpRequestMessage(HttpMethod.Post, path) { Content = new ByteArrayContent(bytes) };
        message.Content.Headers.ContentType = new MediaTypeHeaderValue(type);
        if (gzip)
            message.Content.Headers.ContentEncoding.Add("gzip");
        if (token is not null)
            message.Headers.Authorization = new AuthenticationHeaderValue("Bearer", token);
        if (key is not null)
            message.Headers.Add("Idempotency-Key", key);
        return client.SendAsync(message);
    }

    /// <summary>The partial success of an answer, or null.</summary>
    public static async Task<ExportMetricsPartialSuccess?> Partial(this HttpResponseMessage answer) =>
        ExportMetricsServiceResponse.Parser.ParseFrom(await answer.Content.ReadAsByteArrayAsync()).PartialSuccess;
}
