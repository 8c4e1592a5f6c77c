using System.IO.Compression;
using System.Security.Cryptography;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Traffic;
using Skevin.Server.Access;
using Skevin.Server.Setup;
using Skevin.Storage;
using Skevin.Storage.Arrivals;
using Skevin.Storage.Blocks;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Ingest;

/// <summary>OTLP over HTTP, and IPFIX. Source: OpenTelemetry protocol specification, "OTLP/HTTP".</summary>
public static class IngestEndpoints
{
    private const int LongestBody = 16 * 1024 * 1024;
    private const int LongestUnpacked = 64 * 1024 * 1024;
    private const string Protobuf = "application/x-protobuf";
    private const string Json = "application/json";
    private const string Ipfix = "application/ipfix";

    /// <summary>Maps the paths agents and other senders push to.</summary>
    public static void MapIngest(this IEndpointRouteBuilder routes)
    {
        const string Because = "Senders show an ingest token in place of a session.";
        routes.MapPost("/v1/metrics", Metrics).ExcludeFromDescription().Open(Because);
        routes.MapPost("/v1/logs", Logs).ExcludeFromDescription().Open(Because);
        routes.MapPost("/v1/traces", Traces).ExcludeFromDescription().Open(Because);
        routes.MapPost("/v1/flows", Flows).ExcludeFromDescription().Open(Because);
    }

    private static async Task Metrics(HttpContext context, IngestTokens tokens, MetricsIntake intake, ArrivalBook arrivals, SkevinOptions options, TimeProvider clock)
    {
        if (await Admit(context, tokens, arrivals, intake.Crowded) is not var (token, cluster) || await Unpacked(context) is not { } body
            || await Parse<ExportMetricsServiceRequest>(context, body) is not { } request)
            return;
        var read = OtlpMetrics.Read(request, cluster, StampRange.At(clock.GetUtcNow(), options.Retention));
        var result = await intake.Store(token.ClusterId, new RequestKey(token.Id, KeyOf(context)), read);
        if (result.Conflicts > 0)
            read.Refused.Add("Another value is stored for the same series and time: there are two senders.", result.Conflicts);
        var answer = new ExportMetricsServiceResponse();
        if (read.Refused.Count > 0)
            answer.PartialSuccess = new ExportMetricsPartialSuccess { RejectedDataPoints = read.Refused.Count, ErrorMessage = read.Refused.Why };
        await Write(context, answer);
    }

    // Status records of Skevin's own agents come as log records beside the lines.
    private static async Task Logs(HttpContext context, IngestTokens tokens, SignalIntake intake, ArrivalBook arrivals, SkevinOptions options, TimeProvider clock)
    {
        if (await Admit(context, tokens, arrivals, intake.Crowded) is not var (token, cluster) || await Unpacked(context) is not { } body
            || await Parse<ExportLogsServiceRequest>(context, body) is not { } request)
            return;
        var now = clock.GetUtcNow();
        var read = OtlpLogs.Read(request, cluster, StampRange.At(now, options.Retention), now.ToUnixTimeMilliseconds());
        if (read.Lines.Count + read.Events.Count > 0)
            await intake.Store(new SignalRequest(token.ClusterId, new RequestKey(token.Id, KeyOf(context) ?? HashOf(body)), read.Sources) { Lines = read.Lines, Events = read.Events });
        if (read.Reports.Count > 0)
            await arrivals.Report(token.ClusterId, read.Reports, context.RequestAborted);
        var answer = new ExportLogsServiceResponse();
        if (read.Refused.Count > 0)
            answer.PartialSuccess = new ExportLogsPartialSuccess { RejectedLogRecords = read.Refused.Count, ErrorMessage = read.Refused.Why };
        await Write(context, answer);
    }

    private static async Task Traces(HttpContext context, IngestTokens tokens, SignalIntake intake, ArrivalBook arrivals, SkevinOptions options, TimeProvider clock)
    {
        if (await Admit(context, tokens, arrivals, intake.Crowded) is not var (token, cluster) || await Unpacked(context) is not { } body
            || await Parse<ExportTraceServiceRequest>(context, body) is not { } request)
            return;
        var read = OtlpTraces.Read(request, cluster, StampRange.At(clock.GetUtcNow(), options.Retention));
        if (read.Spans.Count > 0)
            await intake.Store(new SignalRequest(token.ClusterId, new RequestKey(token.Id, KeyOf(context)), read.Sources) { Spans = read.Spans });
        var answer = new ExportTraceServiceResponse();
        if (read.Refused.Count > 0)
            answer.PartialSuccess = new ExportTracePartialSuccess { RejectedSpans = read.Refused.Count, ErrorMessage = read.Refused.Why };
        await Write(context, answer);
    }

    // Each request is a session of its own: its templates stand in it.
    private static async Task Flows(HttpContext context, IngestTokens tokens, SignalIntake intake, ArrivalBook arrivals, SkevinOptions options, TimeProvider clock)
    {
        if (await Admit(context, tokens, arrivals, intake.Crowded, Ipfix) is not var (token, _) || await Unpacked(context) is not { } body)
            return;
        var (flows, session, without) = (new List<FlowRecord>(), new FlowIpfix.Session(), 0);
        try
        {
            for (var rest = body; rest.Length > 0;)
            {
                var message = session.Read(rest.Span, flows);
                without += message.WithoutTemplate;
                rest = rest[message.Header.Length..];
            }
        }
        catch (FormatException broken)
        {
            await Answer(context, 400, "The body is not IPFIX: " + broken.Message);
            return;
        }
        var range = StampRange.At(clock.GetUtcNow(), options.Retention);
        var refused = new Refusals();
        if (without > 0)
            refused.Add("A set came without its template; each request holds the templates it needs.", without);
        var taken = flows.Where(flow =>
        {
            if (range.Refuses(flow.End) is not { } why)
                return true;
            refused.Add(why);
            return false;
        }).ToArray();
        var sources = new SourceTally("flows");
        foreach (var flow in taken.Where(flow => flow.Node.Length > 0))
            sources.Count(ExpectedSources.Flows(flow.Node), flow.End);
        if (taken.Length > 0)
            await intake.Store(new SignalRequest(token.ClusterId, new RequestKey(token.Id, KeyOf(context) ?? HashOf(body)), sources.Arrivals) { Flows = FlowMinutes.Of(taken) });
        await context.Response.WriteAsJsonAsync(new { accepted = taken.Length, rejected = refused.Count, message = refused.Why }, context.RequestAborted);
    }

    private static string? KeyOf(HttpContext context) => context.Request.Headers["Idempotency-Key"].FirstOrDefault();

    private static string HashOf(ReadOnlyMemory<byte> body) => "sha256:" + Convert.ToHexString(SHA256.HashData(body.Span));

    private static async Task<(IngestTokenRow Token, string Cluster)?> Admit(HttpContext context, IngestTokens tokens, ArrivalBook arrivals, bool crowded, params string[] types)
    {
        var (token, cluster) = await tokens.Find(context.Request.Headers.Authorization, context.RequestAborted);
        if (token is not null && tokens.IsValid(token))
        {
            if (crowded)
            {
                context.Response.Headers.RetryAfter = "2";
                await Answer(context, 503, "The server is busy writing. Send the request again in 2 s.");
                return null;
            }
            if (KeyOf(context) is { Length: > 200 } or "" || KeyOf(context)?.StartsWith("sha256:", StringComparison.Ordinal) == true)
            {
                await Answer(context, 400, "The Idempotency-Key is empty, longer than 200 characters, or begins with sha256:.");
                return null;
            }
            types = types.Length > 0 ? types : [Protobuf, Json];
            if (!types.Contains(context.Request.ContentType?.Split(';')[0].Trim().ToLowerInvariant()))
            {
                await Answer(context, 415, $"The content type must be {string.Join(" or ", types)}.");
                return null;
            }
            return (token, cluster);
        }
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
