using Google.Protobuf;
using Grpc.Core;
using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Collector.Trace.V1;

namespace Skevin.Server.Ingest;

/// <summary>OTLP over gRPC. Source: OpenTelemetry protocol specification, "OTLP/gRPC".</summary>
internal static class GrpcSender
{
    public static async Task<Sender> Of(Admission admission, ServerCallContext call, bool ofMetrics)
    {
        var (sender, refusal) = await admission.Run(call.RequestHeaders.GetValue("authorization"), call.RequestHeaders.GetValue("idempotency-key"), ofMetrics, call.CancellationToken);
        return sender ?? throw Refused(refusal!);
    }

    // What may be sent again is Unavailable, where the specification has a delay stand in RetryInfo: senders wait by themselves.
    private static RpcException Refused(IngestRefusal refusal) => new(new Status(refusal.Status switch
    {
        401 => StatusCode.Unauthenticated,
        429 or 503 => StatusCode.Unavailable,
        _ => StatusCode.InvalidArgument,
    }, refusal.Text));
}

/// <summary>Metrics over gRPC.</summary>
public sealed class GrpcMetrics(Admission admission, TakeSignals take) : MetricsService.MetricsServiceBase
{
    /// <inheritdoc/>
    public override async Task<ExportMetricsServiceResponse> Export(ExportMetricsServiceRequest request, ServerCallContext context) =>
        await take.Metrics(await GrpcSender.Of(admission, context, true), request);
}

/// <summary>Log records over gRPC.</summary>
public sealed class GrpcLogs(Admission admission, TakeSignals take) : LogsService.LogsServiceBase
{
    /// <inheritdoc/>
    public override async Task<ExportLogsServiceResponse> Export(ExportLogsServiceRequest request, ServerCallContext context) =>
        await take.Logs(await GrpcSender.Of(admission, context, false), request, request.ToByteArray(), context.CancellationToken);
}

/// <summary>Spans over gRPC.</summary>
public sealed class GrpcTraces(Admission admission, TakeSignals take) : TraceService.TraceServiceBase
{
    /// <inheritdoc/>
    public override async Task<ExportTraceServiceResponse> Export(ExportTraceServiceRequest request, ServerCallContext context) =>
        await take.Traces(await GrpcSender.Of(admission, context, false), request);
}
