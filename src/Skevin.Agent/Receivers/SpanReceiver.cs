using System.IO.Compression;
using System.Net;
using Google.Protobuf;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;
using OpenTelemetry.Proto.Resource.V1;
using Skevin.Agent.Collection;
using Skevin.Core.Collection;
using Skevin.Core.Formats.Otlp;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Agent.Receivers;

/// <summary>Takes spans and log records that applications send. Source: OpenTelemetry protocol specification, "OTLP/HTTP".</summary>
/// <param name="agent">Whose plan says what is taken, and which seals it.</param>
public sealed class SpanReceiver(CollectingAgent agent)
{
    private const int LongestUnpacked = 16 << 20;

    /// <summary>Maps the paths applications send to.</summary>
    public void Map(IEndpointRouteBuilder routes)
    {
        routes.MapPost("/v1/traces", Traces);
        routes.MapPost("/v1/logs", Logs);
    }

    private async Task Traces(HttpContext context)
    {
        if (!await Collects(context, "Traces", plan => plan.Traces is not null))
            return;
        var share = agent.Plan!.Traces!.Share;
        if (await Read<ExportTraceServiceRequest>(context) is not { } request)
            return;
        foreach (var resource in request.ResourceSpans)
            agent.NameSender(resource.Resource ??= new Resource(), context.Connection.RemoteIpAddress);
        // Where traces are judged when they are whole, all of them go there.
        if (share < 1 && agent.Plan.Traces.Tail is null)
            Sample(request, HeadSampling.Threshold(share));
        await Seal(context, () => agent.TakeSpans(request, context.RequestAborted), new ExportTraceServiceResponse());
    }

    private async Task Logs(HttpContext context)
    {
        if (!await Collects(context, "Logs", plan => plan.Logs is not null))
            return;
        if (await Read<ExportLogsServiceRequest>(context) is not { } request)
            return;
        foreach (var resource in request.ResourceLogs)
            agent.NameSender(resource.Resource ??= new Resource(), context.Connection.RemoteIpAddress);
        await Seal(context, () => agent.TakeLogs(request, context.RequestAborted), new ExportLogsServiceResponse());
    }

    // An agent that has only just started does not know its plan yet; a sender that were told 404 would give up what it has.
    private async Task<bool> Collects(HttpContext context, string signal, Func<CollectionPlan, bool> collects)
    {
        if (agent.Plan is not { } plan)
        {
            context.Response.Headers.RetryAfter = "1";
            await Answer(context, 503, "The agent is starting and has not read its plan yet. Send the request again.");
            return false;
        }
        if (collects(plan))
            return true;
        await Answer(context, 404, signal + " are not collected by the plan in force.");
        return false;
    }

    // An earlier sampler's greater threshold stays: the trace then stands for more.
    private static void Sample(ExportTraceServiceRequest request, ulong threshold)
    {
        foreach (var spans in request.ResourceSpans.SelectMany(resource => resource.ScopeSpans).Select(scope => scope.Spans))
            for (var i = spans.Count - 1; i >= 0; i--)
            {
                var span = spans[i];
                if (!HeadSampling.Keeps(TraceId.Of(span.TraceId.Span), threshold))
                    spans.RemoveAt(i);
                else if (HeadSampling.Read(span.TraceState) is not { } earlier || earlier < threshold)
                    span.TraceState = HeadSampling.Write(span.TraceState, threshold);
            }
    }

    private async Task Seal(HttpContext context, Func<Task> seal, IMessage answer)
    {
        if (agent.Full)
        {
            context.Response.Headers.RetryAfter = "5";
            await Answer(context, 503, "The agent's buffer is full; the server does not take what it has. Send the request again.");
            return;
        }
        await seal();
        if (WantsJson(context))
        {
            context.Response.ContentType = "application/json";
            await context.Response.WriteAsync("{}", context.RequestAborted);
            return;
        }
        context.Response.ContentType = "application/x-protobuf";
        await context.Response.Body.WriteAsync(answer.ToByteArray(), context.RequestAborted);
    }

    private static async Task<T?> Read<T>(HttpContext context) where T : class, IMessage<T>, new()
    {
        try
        {
            var encoding = context.Request.Headers.ContentEncoding.ToString();
            await using var body = encoding == "gzip" ? new GZipStream(context.Request.Body, CompressionMode.Decompress) : context.Request.Body;
            using var whole = new MemoryStream();
            var buffer = new byte[65536];
            for (int count; (count = await body.ReadAsync(buffer, context.RequestAborted)) > 0;)
            {
                whole.Write(buffer, 0, count);
                if (whole.Length > LongestUnpacked)
                {
                    await Answer(context, 413, $"The request is larger than {LongestUnpacked >> 20} MiB when unpacked.");
                    return null;
                }
            }
            var bytes = whole.GetBuffer().AsMemory(0, (int)whole.Length);
            return WantsJson(context) ? OtlpJson.Read<T>(bytes) : new MessageParser<T>(() => new T()).ParseFrom(bytes.Span);
        }
        catch (Exception wrong) when (wrong is InvalidProtocolBufferException or FormatException or InvalidDataException)
        {
            await Answer(context, 400, "The body cannot be read: " + wrong.Message);
            return null;
        }
    }

    private static bool WantsJson(HttpContext context) => context.Request.ContentType?.StartsWith("application/json", StringComparison.OrdinalIgnoreCase) == true;

    private static Task Answer(HttpContext context, int status, string text)
    {
        context.Response.StatusCode = status;
        return context.Response.WriteAsJsonAsync(new { message = text }, context.RequestAborted);
    }
}
