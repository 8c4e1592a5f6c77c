using System.Net;
using System.Net.Http.Headers;
using Google.Protobuf;
using Microsoft.EntityFrameworkCore;
using OpenTelemetry;
using OpenTelemetry.Exporter;
using OpenTelemetry.Metrics;
using OpenTelemetry.Proto.Collector.Metrics.V1;
using OpenTelemetry.Proto.Common.V1;
using OpenTelemetry.Resources;
using Skevin.Core.Arrivals;
using Skevin.Core.Formats.Otlp;
using Skevin.Server.Ingest;
using Skevin.Storage;

namespace Skevin.Server.Setup;

/// <summary>
/// Collects what the server measures of itself with the OpenTelemetry SDK and takes it in as it takes anybody's: OTLP, though without
/// a way over the network. Every server does so for itself. It has no namespace, so readers of a whole cluster see it.
/// </summary>
public sealed class OwnTelemetry(TakeSignals take, IDbContextFactory<SkevinContext> contexts, SkevinOptions options, Preparation preparation) : IHostedService
{
    private MeterProvider? _provider;

    /// <inheritdoc/>
    public Task StartAsync(CancellationToken stop)
    {
        if (options.OwnTelemetry == TimeSpan.Zero)
            return Task.CompletedTask;
        var server = $"{Environment.MachineName.ToLowerInvariant()}:{options.Port}";
        _provider = Sdk.CreateMeterProviderBuilder()
            .SetResourceBuilder(ResourceBuilder.CreateEmpty().AddAttributes([new("service.name", "skevin-server"), new("service.instance.id", server)]))
            .AddMeter(OwnMetrics.Meter, "System.Runtime", "Microsoft.AspNetCore.Hosting", "Npgsql")
            // Of requests, what tells one from another; the rest would multiply the series.
            .AddView("http.server.request.duration", new ExplicitBucketHistogramConfiguration { TagKeys = ["http.route", "http.response.status_code"], Boundaries = [0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10] })
            .AddView("http.server.active_requests", new MetricStreamConfiguration { TagKeys = [] })
            .AddOtlpExporter((exporter, reader) =>
            {
                exporter.Protocol = OtlpExportProtocol.HttpProtobuf;
                exporter.Endpoint = new Uri("http://itself/v1/metrics");
                exporter.HttpClientFactory = () => new HttpClient(new Intake(this, ExpectedSources.Server(server)));
                reader.PeriodicExportingMetricReaderOptions.ExportIntervalMilliseconds = (int)options.OwnTelemetry.TotalMilliseconds;
            })
            .Build();
        return Task.CompletedTask;
    }

    /// <inheritdoc/>
    public Task StopAsync(CancellationToken stop)
    {
        _provider?.Dispose();
        return Task.CompletedTask;
    }

    private async Task<ExportMetricsServiceResponse> Take(ExportMetricsServiceRequest request, string source, CancellationToken stop)
    {
        foreach (var scope in request.ResourceMetrics.SelectMany(resource => resource.ScopeMetrics))
            OtlpAttributes.Write((scope.Scope ??= new InstrumentationScope()).Attributes, [new(OtlpMetrics.SourceAttribute, source)]);
        // Before the first cluster is connected there is nowhere to keep it.
        if (!preparation.Done || await Cluster(stop) is not { } cluster)
            return new();
        return await take.Metrics(new Sender(new IngestTokenRow { ClusterId = cluster.Id, Name = source, CreatedBy = source, Hash = [] }, cluster.Name, null), request);
    }

    private async Task<(int Id, string Name)?> Cluster(CancellationToken stop)
    {
        await using var context = await contexts.CreateDbContextAsync(stop);
        var clusters = context.Clusters.AsNoTracking().Where(row => options.OwnCluster == null || row.Name == options.OwnCluster).OrderBy(row => row.Id);
        return await clusters.Select(row => new { row.Id, row.Name }).FirstOrDefaultAsync(stop) is { } found ? (found.Id, found.Name) : null;
    }

    // The exporter's way out; it sends from a thread of its own and waits.
    private sealed class Intake(OwnTelemetry own, string source) : HttpMessageHandler
    {
        protected override HttpResponseMessage Send(HttpRequestMessage request, CancellationToken stop) => SendAsync(request, stop).GetAwaiter().GetResult();

        protected override async Task<HttpResponseMessage> SendAsync(HttpRequestMessage request, CancellationToken stop)
        {
            try
            {
                var answer = await own.Take(ExportMetricsServiceRequest.Parser.ParseFrom(await request.Content!.ReadAsByteArrayAsync(stop)), source, stop);
                return new HttpResponseMessage(HttpStatusCode.OK) { Content = new ByteArrayContent(answer.ToByteArray()) { Headers = { ContentType = new MediaTypeHeaderValue("application/x-protobuf") } } };
            }
            catch (Exception trouble) when (trouble is Npgsql.NpgsqlException or DbUpdateException or InvalidOperationException or OperationCanceledException)
            {
                // The database is away; the next pass carries the same counters on.
                return new HttpResponseMessage(HttpStatusCode.ServiceUnavailable);
            }
        }
    }
}
