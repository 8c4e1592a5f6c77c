using System.IO.Compression;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
using Skevin.Core.Formats.Otlp;
using Skevin.Server.Access;
using Skevin.Server.Setup;

namespace Skevin.Server.Ingest;

/// <summary>OTLP over HTTP and gRPC, and IPFIX. Source: OpenTelemetry protocol specification, "OTLP/HTTP".</summary>
public static class IngestEndpoints
{
    private const int LongestBody = 16 * 1024 * 1024;
    private const int LongestUnpacked = 64 * 1024 * 1024;
    private const string Protobuf = "application/x-protobuf";
    private const string Json = "application/json";
    private const string Ipfix = "application/ipfix";

    /// <summary>Adds its services.</summary>
    public static void AddIngest(this IServiceCollection services)
    {
        services.AddSingleton<IngestLimits>();
        services.AddSingleton<SenderClocks>();
        services.AddSingleton<Admission>();
        services.AddSingleton<TakeSignals>();
        services.AddGrpc(grpc => (grpc.MaxReceiveMessageSize, grpc.IgnoreUnknownServices) = (LongestUnpacked, true));
    }

    /// <summary>Maps the paths agents and other senders push to.</summary>
    public static void MapIngest(this IEndpointRouteBuilder routes, SkevinOptions options)
    {
        const string Because = "Senders show an ingest token in place of a session.";
        routes.MapPost("/v1/metrics", Metrics).AddEndpointFilter(Gone).ExcludeFromDescription().Open(Because);
        routes.MapPost("/v1/logs", Logs).AddEndpointFilter(Gone).ExcludeFromDescription().Open(Because);
        routes.MapPost("/v1/traces", Traces).AddEndpointFilter(Gone).ExcludeFromDescription().Open(Because);
        routes.MapPost("/v1/flows", Flows).AddEndpointFilter(Gone).ExcludeFromDescription().Open(Because);
        // On its own port only: what is not encrypted must speak HTTP/2 from the first byte.
        foreach (var service in new[] { routes.MapGrpcService<GrpcMetrics>(), routes.MapGrpcService<GrpcLogs>(), routes.MapGrpcService<GrpcTraces>() })
            service.RequireHost($"*:{options.GrpcPort}").Open(Because);
    }

    // Another server has disconnected the cluster while its token was still remembered here.
    private static async ValueTask<object?> Gone(EndpointFilterInvocationContext call, EndpointFilterDelegate next)
    {
        try
        {
            return await next(call);
        }
        catch (Npgsql.PostgresException missing) when (missing.SqlState == Npgsql.PostgresErrorCodes.ForeignKeyViolation)
        {
            call.HttpContext.RequestServices.GetRequiredService<IngestTokens>().Forget();
            await Answer(call.HttpContext, 401, "The cluster of this ingest token has been disconnected.");
            return Results.Empty;
        }
    }

    private static async Task Metrics(HttpContext context, Admission admission, TakeSignals take)
    {
        if (await Admit(context, admission, true, Protobuf, Json) is { } sender && await Unpacked(context) is { } body && await Parse<ExportMetricsServiceRequest>(context, body) is { } request)
            await Write(context, await take.Metrics(sender, request));
    }

    private static async Task Logs(HttpContext context, Admission admission, TakeSignals take)
    {
        if (await Admit(context, admission, false, Protobuf, Json) is { } sender && await Unpacked(context) is { } body && await Parse<ExportLogsServiceRequest>(context, body) is { } request)
            await Write(context, await take.Logs(sender, request, body, context.RequestAborted));
    }

    private static async Task Traces(HttpContext context, Admission admission, TakeSignals take)
    {
        if (await Admit(context, admission, false, Protobuf, Json) is { } sender && await Unpacked(context) is { } body && await Parse<ExportTraceServiceRequest>(context, body) is { } request)
            await Write(context, await take.Traces(sender, request));
    }

    private static async Task Flows(HttpContext context, Admission admission, TakeSignals take)
    {
        if (await Admit(context, admission, false, Ipfix) is not { } sender || await Unpacked(context) is not { } body)
            return;
        try
        {
            var (accepted, refused) = await take.Flows(sender, body);
            await context.Response.WriteAsJsonAsync(new { accepted, rejected = refused.Count, message = refused.Why }, context.RequestAborted);
        }
        catch (FormatException broken)
        {
            await Answer(context, 400, "The body is not IPFIX: " + broken.Message);
        }
    }

    private static async Task<Sender?> Admit(HttpContext context, Admission admission, bool ofMetrics, params string[] types)
    {
        var (sender, refusal) = await admission.Run(context.Request.Headers.Authorization, context.Request.Headers["Idempotency-Key"].FirstOrDefault(), ofMetrics, context.RequestAborted);
        if (sender is not null && !types.Contains(context.Request.ContentType?.Split(';')[0].Trim().ToLowerInvariant()))
            refusal = new IngestRefusal(415, $"The content type must be {string.Join(" or ", types)}.");
        if (refusal is null)
        {
            // An agent tells its node as a comment of its name (RFC 9110, "User-Agent"); another sender is known by its token.
            var name = context.Request.Headers.UserAgent.ToString() is var agent && agent.StartsWith("skevin-agent", StringComparison.Ordinal) && agent.IndexOf('(') is var open and > 0 ? agent[(open + 1)..].TrimEnd(')') : sender!.Token.Name;
            context.RequestServices.GetRequiredService<SenderClocks>().Note(sender!.Token.ClusterId, name, DateTimeOffset.TryParse(context.Request.Headers.Date, System.Globalization.CultureInfo.InvariantCulture, out var date) ? date : null);
            return sender;
        }
        if (refusal.RetryAfter > 0)
            context.Response.Headers.RetryAfter = refusal.RetryAfter.ToString(System.Globalization.CultureInfo.InvariantCulture);
        await Answer(context, refusal.Status, refusal.Text);
        return null;
    }

    private static async Task<ReadOnlyMemory<byte>?> Unpacked(HttpContext context)
    {
        try
        {
            var encoding = context.Request.Headers.ContentEncoding.ToString();
            if (encoding is not ("" or "gzip" or "identity"))
            {
                await Answer(context, 415, "The content encoding must be gzip, or none.");
                return null;
            }
            await using var body = encoding == "gzip" ? new GZipStream(context.Request.Body, CompressionMode.Decompress) : context.Request.Body;
            // Most of what comes is told its length; packed, it grows to some four times that.
            using var whole = new MemoryStream((int)Math.Min(LongestUnpacked, (context.Request.ContentLength ?? 4096) * (encoding == "gzip" ? 4 : 1)));
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
            return whole.GetBuffer().AsMemory(0, (int)whole.Length);
        }
        catch (InvalidDataException wrong)
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

    private static async Task<T?> Parse<T>(HttpContext context, ReadOnlyMemory<byte> body) where T : class, IMessage<T>, new()
    {
        try
        {
            return WantsJson(context) ? OtlpJson.Read<T>(body) : new MessageParser<T>(() => new T()).ParseFrom(body.Span);
        }
        catch (Exception broken) when (broken is InvalidProtocolBufferException or FormatException)
        {
            await Answer(context, 400, "The body cannot be read: " + broken.Message);
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
        if (WantsJson(context) || context.Request.ContentType?.StartsWith(Ipfix, StringComparison.OrdinalIgnoreCase) == true)
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
