using System.IO.Compression;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.Otlp;
using Skevin.Server.Access;
using Skevin.Server.Setup;
using Skevin.Storage;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Ingest;

/// <summary>OTLP over HTTP. Source: OpenTelemetry protocol specification, "OTLP/HTTP".</summary>
public static class IngestEndpoints
{
    private const int LongestBody = 16 * 1024 * 1024;
    private const int LongestUnpacked = 64 * 1024 * 1024;

    /// <summary>Maps the paths agents and other senders push to.</summary>
    public static void MapIngest(this IEndpointRouteBuilder routes)
    {
        routes.MapPost("/v1/metrics", Metrics).ExcludeFromDescription().Open("Senders show an ingest token in place of a session.");
        routes.MapPost("/v1/logs", Logs).ExcludeFromDescription().Open("Senders show an ingest token in place of a session.");
    }

    private static async Task Metrics(HttpContext context, IngestTokens tokens, MetricsIntake intake, ArrivalBook arrivals, SkevinOptions options, TimeProvider clock)
    {
        if (await Admit(context, tokens, arrivals) is not var (token, cluster))
            return;
        if (intake.Crowded)
        {
            context.Response.Headers.RetryAfter = "2";
            await Answer(context, 503, "The server is busy writing. Send the request again in 2 s.");
            return;
        }
        if (await Read<ExportMetricsServiceRequest>(context) is not { } request)
            return;
        var now = clock.GetUtcNow();
        var read = OtlpMetrics.Read(request, cluster, (now - options.Retention).ToUnixTimeMilliseconds(), now.AddMinutes(10).ToUnixTimeMilliseconds());
        var key = context.Request.Headers["Idempotency-Key"].FirstOrDefault();
        if (key is { Length: > 200 })
        {
            await Answer(context, 400, "The Idempotency-Key is longer than 200 characters.");
            return;
        }
        var result = await intake.Store(token.ClusterId, token.Id, key, read);
        var answer = new ExportMetricsServiceResponse();
        if (read.Rejected + result.Conflicts > 0)
            answer.PartialSuccess = new ExportMetricsPartialSuccess
            {
                RejectedDataPoints = read.Rejected + result.Conflicts,
                ErrorMessage = (read.Why + (result.Conflicts > 0 ? $" Another value is stored for the same series and time: there are two senders ({result.Conflicts})." : "")).Trim(),
            };
        await Write(context, answer);
    }

    // Status records of Skevin's own agents come as log records; other log records are not kept yet, and the answer says so.
    private static async Task Logs(HttpContext context, IngestTokens tokens, ArrivalBook arrivals)
    {
        if (await Admit(context, tokens, arrivals) is not var (token, _))
            return;
        if (await Read<ExportLogsServiceRequest>(context) is not { } request)
            return;
        var reports = new List<(string, SourceReport)>();
        var others = 0;
        foreach (var record in request.ResourceLogs.SelectMany(resource => resource.ScopeLogs).SelectMany(scope => scope.LogRecords))
        {
            var fields = OtlpMetrics.Attributes(record.Attributes);
            if (record.EventName != SourceReport.EventName || !fields.TryGetValue(OtlpMetrics.SourceAttribute, out var source))
            {
                others++;
                continue;
            }
            long Number(string name) => long.TryParse(fields.GetValueOrDefault(name), out var number) ? number : 0;
            reports.Add((source, new SourceReport(
                DateTimeOffset.FromUnixTimeMilliseconds((long)(record.TimeUnixNano / 1_000_000)),
                Number("skevin.read"), Number("skevin.sent"), Number("skevin.dropped"),
                fields.GetValueOrDefault("skevin.error") is { Length: > 0 } error ? error : null)));
        }
        if (reports.Count > 0)
            await arrivals.Report(token.ClusterId, reports, context.RequestAborted);
        var answer = new ExportLogsServiceResponse();
        if (others > 0)
            answer.PartialSuccess = new ExportLogsPartialSuccess { RejectedLogRecords = others, ErrorMessage = "Log records are not kept yet." };
        await Write(context, answer);
    }

    private static async Task<(IngestTokenRow Token, string Cluster)?> Admit(HttpContext context, IngestTokens tokens, ArrivalBook arrivals)
    {
        var (token, cluster) = await tokens.Find(context.Request.Headers.Authorization, context.RequestAborted);
        if (token is not null && tokens.IsValid(token))
            return (token, cluster);
        if (token is not null)
        {
            arrivals.NoteRefusal(token.ClusterId, token.RevokedAt ?? token.ExpiresAt);
            await Answer(context, 401, token.RevokedAt is { } revoked
                ? $"The ingest token was revoked at {revoked:yyyy-MM-dd HH:mm:ss} UTC."
                : $"The ingest token expired at {token.ExpiresAt:yyyy-MM-dd HH:mm:ss} UTC.");
            return null;
        }
        await Answer(context, 401, "The ingest token is missing or unknown. Send it as Authorization: Bearer.");
        return null;
    }

    private static async Task<T?> Read<T>(HttpContext context) where T : class, IMessage<T>, new()
    {
        var type = context.Request.ContentType?.Split(';')[0].Trim().ToLowerInvariant();
        if (type is not ("application/x-protobuf" or "application/json"))
        {
            await Answer(context, 415, "The content type must be application/x-protobuf or application/json.");
            return null;
        }
        try
        {
            var encoding = context.Request.Headers.ContentEncoding.ToString();
            if (encoding is not ("" or "gzip" or "identity"))
            {
                await Answer(context, 415, "The content encoding must be gzip, or none.");
                return null;
            }
            await using var body = encoding == "gzip" ? new GZipStream(context.Request.Body, CompressionMode.Decompress) : context.Request.Body;
            using var whole = new MemoryStream();
            var buffer = new byte[81920];
            for (int count; (count = await body.ReadAsync(buffer, context.RequestAborted)) > 0;)
            {
                whole.Write(buffer, 0, count);
                if (whole.Length > LongestUnpacked)
                {
                    await Answer(context, 413, $"The request is larger than {LongestUnpacked >> 20} MiB when unpacked. Send smaller batches.");
                    return null;
                }
            }
            var bytes = whole.GetBuffer().AsMemory(0, (int)whole.Length);
            return type == "application/json" ? OtlpJson.Read<T>(bytes) : new MessageParser<T>(() => new T()).ParseFrom(bytes.Span);
        }
        catch (Exception wrong) when (wrong is InvalidProtocolBufferException or FormatException or InvalidDataException)
        {
            await Answer(context, 400, "The body cannot be read: " + wrong.Message);
            return null;
        }
        catch (BadHttpRequestException wrong)
        {
            await Answer(context, wrong.StatusCode, wrong.StatusCode == 413 ? $"The request is larger than {LongestBody >> 20} MiB." : wrong.Message);
            return null;
        }
    }

    private static bool WantsJson(HttpContext context) => context.Request.ContentType?.StartsWith("application/json", StringComparison.OrdinalIgnoreCase) == true;

    private static async Task Write(HttpContext context, IMessage answer)
    {
        context.Response.StatusCode = 200;
        if (WantsJson(context))
        {
            context.Response.ContentType = "application/json";
            await context.Response.WriteAsync(JsonFormatter.Default.Format(answer), context.RequestAborted);
            return;
        }
        context.Response.ContentType = "application/x-protobuf";
        await context.Response.Body.WriteAsync(answer.ToByteArray(), context.RequestAborted);
    }

    // A google.rpc.Status message; its field 2 is the text. Source: OTLP specification, "Failures".
    private static async Task Answer(HttpContext context, int status, string text)
    {
        context.Response.StatusCode = status;
        if (WantsJson(context))
        {
            await context.Response.WriteAsJsonAsync(new { message = text }, context.RequestAborted);
            return;
        }
        context.Response.ContentType = "application/x-protobuf";
        using var body = new MemoryStream();
        var output = new CodedOutputStream(body);
        output.WriteTag(2, WireFormat.WireType.LengthDelimited);
        output.WriteString(text);
        output.Flush();
        await context.Response.Body.WriteAsync(body.ToArray(), context.RequestAborted);
    }
}
