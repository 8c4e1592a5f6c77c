using OpenTelemetry.Proto.Collector.Logs.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Proto.Logs.V1;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Agent.Collection;

/// <summary>Pieces of requests with log records.</summary>
public static class LogBatch
{
    /// <summary>A scope that names the expected source of its records.</summary>
    public static ScopeLogs Scope(string? source)
    {
        var scope = new ScopeLogs { Scope = new InstrumentationScope { Name = "skevin.agent" } };
        if (source is not null)
            OtlpAttributes.Write(scope.Scope.Attributes, [new(OtlpMetrics.SourceAttribute, source)]);
        return scope;
    }

    /// <summary>A request.</summary>
    public static ExportLogsServiceRequest Request(IEnumerable<ResourceLogs> resources)
    {
        var request = new ExportLogsServiceRequest();
        request.ResourceLogs.AddRange(resources);
        return request;
    }
}
