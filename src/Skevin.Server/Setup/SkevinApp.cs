using System.Reflection;
using System.Text.Json;
using System.Text.Json.Serialization;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.HttpOverrides;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.FileProviders;
using Npgsql;
using Serilog;
using Skevin.Server.Access;
using Skevin.Server.Alarms;
using Skevin.Server.Arrivals;
using Skevin.Server.Ask;
using Skevin.Server.Clusters;
using Skevin.Server.Clusters.Orders;
using Skevin.Server.Collection;
using Skevin.Server.Collection.Machines;
using Skevin.Server.Dashboards;
using Skevin.Server.Ingest;
using Skevin.Server.Live;
using Skevin.Server.People;
using Skevin.Server.Practice;
using Skevin.Server.Shell;
using Skevin.Server.Timeline;
using Skevin.Storage;
using Skevin.Storage.Blocks;
using Skevin.Storage.Flows;
using Skevin.Storage.Metrics;
using Skevin.Storage.Peers;
using Skevin.Storage.Traces;

namespace Skevin.Server.Setup;

/// <summary>Which version runs.</summary>
public sealed record HealthView(string Version, string Commit);

/// <summary>Puts the server together.</summary>
public static class SkevinApp
{
    /// <summary>Builds it; <see cref="Preparation"/> must run before it is ready.</summary>
    public static WebApplication Build(string[] args, IReadOnlyDictionary<string, string?>? settings = null)
    {
        var builder = WebApplication.CreateBuilder(new WebApplicationOptions { Args = args, ContentRootPath = AppContext.BaseDirectory });
        if (settings is not null)
            builder.Configuration.AddInMemoryCollection(settings);
        var options = SkevinOptions.Read(builder.Configuration);
        builder.Services.AddSerilog(log => log.MinimumLevel.Information()
            .MinimumLevel.Override("Microsoft", Serilog.Events.LogEventLevel.Warning)
            .MinimumLevel.Override("System.Net.Http", Serilog.Events.LogEventLevel.Warning)
            // What a command fails with comes as an exception and is logged where that is handled.
            .MinimumLevel.Override("Microsoft.EntityFrameworkCore.Database.Command", Serilog.Events.LogEventLevel.Fatal)
            .WriteTo.Console(outputTemplate: "{Timestamp:HH:mm:ss} {Level:u3} {Message:lj}{NewLine}{Exception}"));
        builder.WebHost.ConfigureKestrel(kestrel =>
        {
            kestrel.Limits.MaxRequestBodySize = 16 * 1024 * 1024;
            kestrel.AddServerHeader = false;
            var address = options.Listen == "localhost" ? System.Net.IPAddress.Loopback : System.Net.IPAddress.Parse(options.Listen);
            kestrel.Listen(address, options.Port);
            if (options.GrpcPort > 0)
                kestrel.Listen(address, options.GrpcPort, grpc => grpc.Protocols = Microsoft.AspNetCore.Server.Kestrel.Core.HttpProtocols.Http2);
        });

        var services = builder.Services;
        services.AddSingleton(options);
        services.AddSingleton(TimeProvider.System);
        services.AddSingleton(Connections(options.Database));
        services.AddDbContextFactory<SkevinContext>((provider, database) => SkevinContext.Configure(database, provider.GetRequiredService<NpgsqlDataSource>()));
        services.AddDataProtection().PersistKeysToDbContext<SkevinContext>().SetApplicationName("skevin");
        services.ConfigureHttpJsonOptions(json =>
        {
            json.SerializerOptions.Converters.Add(new JsonStringEnumConverter(JsonNamingPolicy.CamelCase));
            json.SerializerOptions.NumberHandling = JsonNumberHandling.Strict;
        });
        services.AddProblemDetails();
        services.AddOpenApi("openapi", api => api.AddDocumentTransformer((document, _, _) =>
        {
            // Nothing of where the server runs, so that the description is the same everywhere.
            document.Info.Title = "Skevin";
            document.Servers = [];
            return Task.CompletedTask;
        }));
        services.AddSingleton<SeriesIndex>();
        services.AddSingleton<Heads>();
        services.AddSingleton<SampleStore>();
        services.AddSingleton<MetricsIntake>();
        services.AddSingleton<DayPartitions>();
        services.AddSingleton<RecentSpans>();
        services.AddSingleton<SignalIntake>();
        services.AddSingleton<BlockMerging>();
        services.AddSingleton<SampleFolding>();
        services.AddHostedService<MergeWorker>();
        services.AddHostedService<FoldWorker>();
        services.AddSingleton<AddressBooks>();
        services.AddSingleton<LiveFeed>();
        services.AddSingleton<PeerFeed>();
        services.AddHostedService<PeerFollower>();
        services.AddHostedService<PeerLive>();
        services.AddSingleton<Preparation>();
        services.AddSingleton<Retentions>();
        services.AddHostedService<Housekeeping>();
        services.AddHostedService<OwnTelemetry>();
        services.AddSessions();
        services.AddPeople();
        services.AddClusters();
        services.AddOrders();
        services.AddCollection();
        services.AddArrivals();
        services.AddAsk();
        services.AddAlarms();
        services.AddSheets(options);
        services.AddIngest();
        services.AddPractice(options);

        var app = builder.Build();
        // Behind a proxy on this machine that ends TLS, the cookie is still marked secure.
        app.UseForwardedHeaders(new ForwardedHeadersOptions { ForwardedHeaders = ForwardedHeaders.XForwardedProto | ForwardedHeaders.XForwardedFor });
        app.UseExceptionHandler();
        app.UseStatusCodePages();
        app.Use(OnlyJsonWrites);
        app.Use(SafeHeaders);
        var page = Path.GetFullPath(options.PageFolder);
        if (Directory.Exists(page))
        {
            app.UseDefaultFiles(new DefaultFilesOptions { FileProvider = new PhysicalFileProvider(page) });
            app.UseStaticFiles(new StaticFileOptions
            {
                FileProvider = new PhysicalFileProvider(page),
                OnPrepareResponse = file => file.Context.Response.Headers.CacheControl =
                    file.Context.Request.Path.StartsWithSegments("/assets") ? "public, max-age=31536000, immutable" : "no-cache",
            });
        }
        app.UseAuthentication();
        app.UseAuthorization();
        app.Use(Auditing.Keep);
        app.MapOpenApi("/api/{documentName}.json").AllowAnonymous().WithMetadata(new OpenBecause("The description of the API holds no data."));
        var routes = app.MapGroup("").WithTags("Skevin");
        routes.MapGet("/health/live", () => Health).Open("Whether the process runs; no data.");
        routes.MapGet("/health/ready", async Task<IResult> (Preparation preparation, NpgsqlDataSource database, CancellationToken stop) =>
        {
            try
            {
                await using var command = database.CreateCommand("select 1");
                await command.ExecuteScalarAsync(stop);
                return preparation.Done ? TypedResults.Ok(Health) : new Problem(503, "Not ready.", "Migrations or the head are not done yet.").Http();
            }
            catch (NpgsqlException)
            {
                return new Problem(503, "Not ready.", "PostgreSQL does not answer.").Http();
            }
        }).Produces<HealthView>().Open("Whether it can work; no data.");
        routes.MapSessions();
        routes.MapPeople();
        routes.MapLive();
        routes.MapStations();
        routes.MapTimeline();
        routes.MapClusters();
        routes.MapOrders();
        routes.MapCollection();
        routes.MapMachines();
        routes.MapArrivals();
        routes.MapAsk();
        routes.MapSheets();
        routes.MapAlarms();
        routes.MapPractice(options);
        routes.MapIngest(options);
        app.MapFallback(async context =>
        {
            var index = Path.Combine(page, "index.html");
            if (context.Request.Path.StartsWithSegments("/api") || context.Request.Path.StartsWithSegments("/v1") || !File.Exists(index))
            {
                await new Problem(404, "Nothing is here.", $"No such address: {context.Request.Path}").Http().ExecuteAsync(context);
                return;
            }
            context.Response.ContentType = "text/html; charset=utf-8";
            context.Response.Headers.CacheControl = "no-cache";
            await context.Response.SendFileAsync(index);
        }).AllowAnonymous().WithMetadata(new OpenBecause("The page itself holds no data; everything it shows is fetched after sign-in."));
        return app;
    }

    // The name tells what this server wrote from what others did. PostgreSQL lets in a hundred where nothing else is said, and there may be several servers.
    private static NpgsqlDataSource Connections(string database)
    {
        var settings = new NpgsqlConnectionStringBuilder(database) { ApplicationName = "skevin " + Guid.NewGuid().ToString("N") };
        if (!settings.ShouldSerialize("Maximum Pool Size"))
            settings.MaxPoolSize = 40;
        return NpgsqlDataSource.Create(settings.ConnectionString);
    }

    private static readonly HealthView Health = new(
        typeof(SkevinApp).Assembly.GetName().Version!.ToString(3),
        typeof(SkevinApp).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion.Split('+') is [_, var commit] ? commit : "unknown");

    // A page of another site can send forms, but not JSON, without being asked first.
    private static Task OnlyJsonWrites(HttpContext context, RequestDelegate next)
    {
        var request = context.Request;
        var writes = HttpMethods.IsPost(request.Method) || HttpMethods.IsPut(request.Method) || HttpMethods.IsPatch(request.Method);
        return writes && request.Path.StartsWithSegments("/api") && request.ContentType?.StartsWith("application/json", StringComparison.OrdinalIgnoreCase) != true
            ? new Problem(415, "Only JSON is taken.", "Send the body with the content type application/json.").Http().ExecuteAsync(context)
            : next(context);
    }

    private static Task SafeHeaders(HttpContext context, RequestDelegate next)
    {
        var headers = context.Response.Headers;
        headers.XContentTypeOptions = "nosniff";
        headers["Referrer-Policy"] = "same-origin";
        headers.ContentSecurityPolicy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
        return next(context);
    }
}
